/** Four hundred damaged files of every kind: each read or refused in our own words, and nothing brought down. More in `npm run soak`. */
import { afterAll, expect, it } from 'vitest';
import { Fleet, Lookers } from '../engine/fleet';
import { temporaryFolder } from '../testing/lake-tools';
import { judgeMutations } from '../testing/mutation-judge';

const folder = temporaryFolder();
const lookers = new Lookers({ memory: 300e6, threads: 2 });
const fleet = new Fleet({ memory: 300e6, threads: 2, queries: 2, changes: 1, run: (call, ask) => lookers.call(call, ask) });
afterAll(async () => {
  await Promise.all([fleet.close(), lookers.close()]);
  folder.remove();
});

it('damaged files are read or refused by name, with what to do, in no words of a library', async () => {
  const { tried, answered, refused, faults } = await judgeMutations({ engine: fleet, folder: folder.path }, 400, 20261127);
  expect(faults).toEqual([]);
  expect(answered + refused).toBe(tried);
  // Were everything refused, or nothing, the judge would be blind.
  expect(Math.min(answered, refused)).toBeGreaterThan(tried / 10);
}, 300_000);
