/** Where the server of these tests is, and its data folder; as e2e/serve.mjs starts it. */
export const home = '.cache/e2e-home';
export const address = 'http://127.0.0.1:4791';
