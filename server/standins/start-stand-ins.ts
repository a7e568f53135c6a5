/** The outside services of the demo, simulated: a neighbour's object store. They live as long as the server. */
import { randomUUID } from 'node:crypto';
import { existsSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { fillRiverWatch } from '../../demo/river-watch';
import { quoteText } from '../../core/sql/tokens';
import type { EngineCalls } from '../engine/engine';
import type { Services } from '../services';
import { ObjectStoreStandIn } from './object-store';

const STORAGE = 'river-watch';
const BUCKET = 'river-watch';
const KEYS = { accessKeyId: 'tern-bay-visitor', secretAccessKey: 'mind-the-ducks', rights: ['list', 'read', 'write', 'delete'] as const };

/** At first start the store is filled and connected; later its address, which is any free one, is brought up to date. */
export async function startStandIns({ config, lake, workEngine }: Services, onStop: (stop: () => Promise<void>) => void): Promise<void> {
  const folder = path.join(config.home, 'stand-ins', 'object-store');
  const store = new ObjectStoreStandIn(folder, [KEYS]);
  const bucket = store.addBucket(BUCKET);
  const complete = path.join(folder, '.complete');
  if (!existsSync(complete)) {
    await fillRiverWatch(bucket, (csv) => zstd(workEngine, csv));
    writeFileSync(complete, '');
  }
  const endpoint = await store.listen(0);
  onStop(() => store.close());
  const known = lake.storages().find(({ storage }) => storage.name === STORAGE);
  if (!known) {
    const settings = { endpoint, region: 'bay-1', bucket: BUCKET, prefix: '', addressing: 'path' } as const;
    await lake.addStorage({ name: STORAGE, kind: 's3', location: '', settings, secret: lake.secrets.seal({ accessKeyId: KEYS.accessKeyId, secretAccessKey: KEYS.secretAccessKey }) }, config.person);
  } else if (known.storage.settings?.endpoint !== endpoint) await lake.changeEndpoint(known.storage, endpoint, config.person);
}

/** Packed by the engine, since this version of Node.js cannot. */
async function zstd(engine: EngineCalls, csv: string): Promise<Uint8Array> {
  const [plain, packed] = ['plain', 'packed'].map((name) => path.join(os.tmpdir(), `${randomUUID()}.${name}`)) as [string, string];
  writeFileSync(plain, csv);
  try {
    await engine.call('run', { sql: `COPY (SELECT line FROM read_csv(${quoteText(plain)}, columns = {'line': 'VARCHAR'}, auto_detect = false, delim = '\x01', header = false, quote = '', escape = '')) TO ${quoteText(packed)} (FORMAT csv, HEADER false, QUOTE '', ESCAPE '', DELIMITER '\x01', COMPRESSION zstd)` });
    return readFileSync(packed);
  } finally {
    for (const file of [plain, packed]) rmSync(file, { force: true });
  }
}
