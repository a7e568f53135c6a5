/** Where the server of these tests has its data folder: tests run in shards side by side, each with a server of its own. */
const shard = Number(process.env.E2E_SHARD ?? 1);
export const home = `.cache/e2e-home-${shard}`;
export const address = `http://127.0.0.1:${4790 + shard}`;
