/** Makes the whole demo lake, step by step. */
import { BOTTLES_SQL, LIMITS_SQL, SIGHTINGS_SQL, soundingsByDay, START_SQL } from './data';
import { landBottleSheets, landBuoyLogs, landLimits, landNotices, landScratch, landSightings, landSoundings, landTideTable } from './landing';
import type { DemoPorts } from './ports';
import { publishViews } from './published';
import { refineBottles, refineLimits, refineSightings, refineSoundings } from './refined';

export async function makeLake(given: Omit<DemoPorts, 'wantDay'>): Promise<void> {
  const ports: DemoPorts = { ...given, wantDay: soundingsByDay(given) };
  ports.progress('Measuring the bay', 0, 1);
  for (const sql of [START_SQL, BOTTLES_SQL, SIGHTINGS_SQL, LIMITS_SQL]) await ports.run(sql);
  // The logs are written here, the rest by the engine's process.
  await Promise.all([landBuoyLogs(ports), landSoundings(ports)]);
  await landBottleSheets(ports);
  await landSightings(ports);
  await landLimits(ports);
  landScratch(ports);
  landTideTable(ports);
  landNotices(ports);
  await refineBottles(ports);
  await refineLimits(ports);
  await refineSightings(ports);
  await refineSoundings(ports);
  await publishViews(ports);
  await ports.run('DROP SCHEMA demo CASCADE');
}
