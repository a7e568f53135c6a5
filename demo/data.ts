/** The made-up measurements, as SQL over the engine's hash of (seed, buoy, time): the same on every run. */
import { DAYS, FIRST_DAY, PLACES, type DemoPorts } from './ports';

/** 0 to 1, by whole numbers that name the draw. */
const MACROS = `
  CREATE OR REPLACE MACRO draw(a, b, c) AS ((hash(20260331::BIGINT, a::BIGINT, b::BIGINT, c::BIGINT) % 1000000)::DOUBLE / 1000000);
  CREATE OR REPLACE MACRO swing(a, b, c) AS (draw(a, b, c) + draw(a, b, c + 100) + draw(a, b, c + 200) - 1.5);
`;

const MEASURES = `
  round(2.4 + (buoy % 8) * 1.7 + 1.6 * sin(2 * pi() * (tick / 74.52 + buoy / 48.0)) + 0.1 * swing(buoy, tick, 1), 2) AS depth_m,
  round(6.4 + 1.9 * sin(2 * pi() * (tick / 144 - 55) / 365) + 0.5 * sin(2 * pi() * (tick % 144 - 60) / 144) + 0.25 * swing(buoy, tick, 2), 2) AS temp_c,
  CASE WHEN draw(buoy, tick, 31) < 0.02 THEN NULL ELSE round(33.4 - (buoy % 8) * 0.22 + 0.3 * swing(buoy, tick, 3), 2) END AS salinity_psu,
  CASE WHEN draw(buoy, tick, 41) < 0.01 THEN NULL ELSE round(9.6 - (buoy % 8) * 0.31 + 0.7 * sin(2 * pi() * (tick % 144 - 40) / 144) + 0.6 * swing(buoy, tick, 4), 2) END AS oxygen_mg_l,
  round(1.2 + exp(1.1 + 1.3 * swing(buoy, tick // 18, 5)) / 4 + 0.3 * draw(buoy, tick, 6), 1) AS turbidity_ntu,
  round(12.9 - 0.0042 * (tick / 144) - 0.12 * draw(buoy, tick // 144, 7) - 0.1 * draw(buoy, tick, 8), 2)::FLOAT AS battery_v,
  CASE WHEN taken_at >= TIMESTAMPTZ '2026-03-01 00:00:00+00' THEN round(0.6 + 2.2 * draw(buoy, tick // 144, 9) * greatest(0.0, sin(2 * pi() * (tick / 144 - 58) / 120)) + 0.2 * draw(buoy, tick, 10), 2) END AS chlorophyll_ug_l`;

export const START_SQL = `${MACROS} CREATE SCHEMA IF NOT EXISTS demo;`;

const TICKS_A_DAY = 144;

/**
 * `demo.soundings` of the days [from, to): one row a buoy and ten minutes; TB-09 is silent for two days. At a larger
 * scale buoys are added.
 */
function soundingsSql(from: number, to: number, scale: number): string {
  return `
    CREATE OR REPLACE TABLE demo.soundings AS
    SELECT taken_at, buoy_id, buoy, taken_at::DATE AS day, ${MEASURES}
    FROM (
      SELECT tick, buoy, 'TB-' || lpad(buoy::VARCHAR, 2, '0') AS buoy_id, TIMESTAMPTZ '${FIRST_DAY} 00:00:00+00' + to_minutes(tick * 10) AS taken_at
      FROM range(${from * TICKS_A_DAY}, ${to * TICKS_A_DAY}) ticks(tick), range(1, ${48 * scale + 1}) buoys(buoy)
    )
    WHERE NOT (buoy = 9 AND taken_at::DATE IN (DATE '2026-02-10', DATE '2026-02-11'))
    ORDER BY day, buoy, taken_at`;
}

/** Sees to it that a day is in `demo.soundings`: as many days at once as fit the engine's memory at the scale. */
export function soundingsByDay({ run, scale }: Pick<DemoPorts, 'run' | 'scale'>): (n: number) => Promise<void> {
  const window = Math.ceil(DAYS / scale);
  let from = -Infinity;
  return async (n) => {
    if (n >= from && n < from + window) return;
    from = n;
    await run(soundingsSql(from, Math.min(DAYS, from + window), scale));
  };
}

/** What arrived for one day and group of buoys: with some transmissions twice. */
export function landedSoundings(day: string, group: number): string {
  const columns = `taken_at, buoy_id, depth_m, temp_c, salinity_psu, oxygen_mg_l, turbidity_ntu, battery_v${day >= '2026-03-01' ? ', chlorophyll_ug_l' : ''}`;
  const rows = `FROM demo.soundings WHERE day = DATE '${day}' AND (buoy - 1) % ${PLACES.length} = ${group}`;
  return `SELECT ${columns} FROM (SELECT *, 0 AS again ${rows} UNION ALL SELECT *, 1 ${rows} AND draw(buoy, epoch(taken_at)::BIGINT, 77) < 0.001) ORDER BY buoy_id, taken_at, again`;
}

const PLACE_LIST = `[${PLACES.map((place) => `'${place}'`).join(', ')}]`;

/** `demo.bottles`: lab results from February 2025 on, about twenty a day. */
export const BOTTLES_SQL = `
  CREATE OR REPLACE TABLE demo.bottles AS
  SELECT 'B-' || lpad(n::VARCHAR, 4, '0') AS bottle_id, ${PLACE_LIST}[1 + (hash(n::BIGINT, 5::BIGINT) % ${PLACES.length})::INT] AS site, sampled_at,
         round(9.2 - 1.6 * draw(n, 1, 50) + 0.5 * swing(n, 2, 51), 1) AS oxygen_mg_l,
         round(9.5 + 5.2 * sin(2 * pi() * (dayofyear(sampled_at) - 120) / 365) + 0.8 * swing(n, 3, 52), 1) AS temp_c,
         CASE WHEN draw(n, 4, 53) < 0.03 THEN NULL ELSE round(4 + 9 * draw(n, 5, 54) * draw(n, 6, 55), 2) END AS nitrate_umol_l,
         (exp(1 + 5.5 * draw(n, 7, 56) * draw(n, 8, 57)))::INT AS coliform_cfu,
         ['M. Reed', 'R. Holt', 'A. Sunde', 'J. Okafor'][1 + (hash(n::BIGINT, 6::BIGINT) % 4)::INT] AS analyst
  FROM (
    SELECT n, TIMESTAMPTZ '2025-02-01 06:00:00+00' + to_minutes((n * 70 + (draw(n, 9, 58) * 40)::BIGINT) // 5 * 5) AS sampled_at
    FROM range(1, 8690) numbers(n)
  )
  WHERE sampled_at < TIMESTAMPTZ '2026-04-01 00:00:00+00'`;

/** `demo.sightings`: volunteers' notes with a nested place. */
export const SIGHTINGS_SQL = `
  CREATE OR REPLACE TABLE demo.sightings AS
  SELECT n AS sighting_id, seen_at,
         ['grey seal', 'harbour porpoise', 'eider', 'gannet', 'moon jellyfish', 'sea trout', 'otter', 'oil sheen'][1 + (hash(n::BIGINT, 11::BIGINT) % 8)::INT] AS what,
         (1 + exp(3 * draw(n, 1, 60) * draw(n, 2, 61)))::INT AS how_many,
         {'name': place, 'lat': round(54.30 + 0.011 * list_position(${PLACE_LIST}, place) + 0.004 * swing(n, 3, 62), 5), 'lon': round(-1.20 + 0.017 * list_position(${PLACE_LIST}, place) + 0.004 * swing(n, 4, 63), 5), 'address': ['the slipway', 'the east mole', 'off the steps', 'the sand bar'][1 + (hash(n::BIGINT, 12::BIGINT) % 4)::INT]} AS place,
         ['Seen from the wall.', 'Two of us counted.', 'Hard to tell in the glare.', 'Same group as yesterday?', 'Photo on request.', 'Close in, feeding.'][1 + (hash(n::BIGINT, 13::BIGINT) % 6)::INT] AS note
  FROM (SELECT n, TIMESTAMPTZ '${FIRST_DAY} 05:00:00+00' + to_seconds(n * 625 + (draw(n, 5, 64) * 600)::BIGINT) AS seen_at,
               ${PLACE_LIST}[1 + (hash(n::BIGINT, 14::BIGINT) % ${PLACES.length})::INT] AS place FROM range(1, 12407) numbers(n))
  WHERE seen_at < TIMESTAMPTZ '2026-04-01 00:00:00+00'`;

/** A limit per measure and place; coliforms and the bay-wide ones by the shoreline. */
export const LIMITS_SQL = `
  CREATE OR REPLACE TABLE demo.limits AS
  SELECT * FROM (VALUES
    ('oxygen_mg_l', NULL, 'mg/l', 6.5::DOUBLE, NULL::DOUBLE, 'low oxygen harms fish'), ('temp_c', NULL, 'C', NULL, 19.5, 'bathing season'),
    ('salinity_psu', NULL, 'psu', 29.0, 35.5, 'outside: check the probe'), ('turbidity_ntu', NULL, 'ntu', NULL, 12.0, 'after storms'),
    ('nitrate_umol_l', NULL, 'umol/l', NULL, 11.5, 'from the river'), ('chlorophyll_ug_l', NULL, 'ug/l', NULL, 4.0, 'bloom watch')
  ) t(measure, site, unit, lowest, highest, note)
  UNION ALL SELECT 'coliform_cfu', site, 'cfu/100 ml', NULL, 180 + 20 * i, 'bathing water' FROM (SELECT unnest(${PLACE_LIST}) AS site, unnest(range(8)) AS i)
  UNION ALL SELECT 'oxygen_mg_l', site, 'mg/l', 6.5 + 0.1 * i, NULL, 'local' FROM (SELECT unnest(${PLACE_LIST}) AS site, unnest(range(8)) AS i)`;
