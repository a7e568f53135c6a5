/** The published views: what other people read. */
import type { DemoPorts } from './ports';

const VIEWS: { name: string; description: string; sql: string }[] = [
  {
    name: 'published.daily_oxygen',
    description: 'Oxygen by buoy and day.',
    sql: `SELECT taken_at::DATE AS day, buoy_id, round(avg(oxygen_mg_l), 2) AS mean_mg_l, min(oxygen_mg_l) AS lowest_mg_l, count(oxygen_mg_l) AS readings
FROM refined.soundings
GROUP BY ALL`,
  },
  {
    name: 'published.bottles_below_limit',
    description: 'Bottles whose oxygen is under the limit of their site, or of the bay.',
    sql: `SELECT b.bottle_id, b.site, b.sampled_at, b.oxygen_mg_l, l.lowest AS limit_mg_l
FROM refined.bottles AS b
JOIN refined.water_limits AS l ON l.measure = 'oxygen_mg_l' AND (l.site = b.site OR l.site IS NULL)
WHERE b.oxygen_mg_l < l.lowest`,
  },
  {
    name: 'published.bay_health',
    description: 'One line a week: the bay at a glance.',
    sql: `SELECT date_trunc('week', day) AS week, round(avg(mean_mg_l), 2) AS oxygen_mg_l, min(lowest_mg_l) AS lowest_mg_l, count(DISTINCT buoy_id) AS buoys
FROM published.daily_oxygen
GROUP BY ALL`,
  },
];

export async function publishViews({ registerView }: DemoPorts): Promise<void> {
  for (const { name, sql, description } of VIEWS) await registerView(name, sql, description);
}
