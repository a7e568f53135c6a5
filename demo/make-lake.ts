/** Makes the whole demo lake, step by step. */
import { BOTTLES_SQL, LIMITS_SQL, SIGHTINGS_SQL, soundingsSql } from './data';
import { landBottleSheets, landBuoyLogs, landLimits, landScratch, landSightings, landSoundings } from './landing';
import type { DemoPorts } from './ports';
import { publishViews } from './published';
import { refineBottles, refineLimits, refineSightings, refineSoundings } from './refined';

export async function makeLake(ports: DemoPorts): Promise<void> {
  ports.progress('Measuring the bay', 0, 1);
  for (const sql of [soundingsSql(ports.scale), BOTTLES_SQL, SIGHTINGS_SQL, LIMITS_SQL]) await ports.run(sql);
  await landSoundings(ports);
  await landBottleSheets(ports);
  await landSightings(ports);
  await landLimits(ports);
  landBuoyLogs(ports);
  landScratch(ports);
  await refineBottles(ports);
  await refineLimits(ports);
  await refineSightings(ports);
  await refineSoundings(ports);
  await publishViews(ports);
  await ports.run('DROP SCHEMA demo CASCADE');
}
