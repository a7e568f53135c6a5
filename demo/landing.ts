/** The landing files: as they came, with their faults. */
import { mkdirSync, utimesSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { gzipSync } from 'node:zlib';
import { landedSoundings } from './data';
import { DAYS, dayText, PLACES, SeededIds, slug, type DemoPorts } from './ports';

export async function landSoundings({ run, localRoot, progress, wantDay }: DemoPorts): Promise<void> {
  for (let n = 0; n < DAYS; n++) {
    const day = dayText(n);
    const folder = path.join(localRoot, 'landing/soundings', `day=${day}`);
    mkdirSync(folder, { recursive: true });
    const files = PLACES.map((place) => path.join(folder, `${slug(place)}.parquet`));
    await wantDay(n);
    // Each file is written by one thread in a total order, so two halves at once change no byte.
    const copies = files.map((file, group) => `COPY (${landedSoundings(day, group)}) TO '${file}' (FORMAT parquet, COMPRESSION snappy)`);
    await Promise.all([run(copies.slice(0, 4).join('; ')), run(copies.slice(4).join('; '))]);
    files.forEach((file) => stamp(file, `${day}T23:58:00Z`));
    progress('Landing soundings', n + 1, DAYS);
  }
}

export async function landBottleSheets({ run, localRoot }: DemoPorts): Promise<void> {
  const folder = path.join(localRoot, 'landing/bottle-sheets');
  mkdirSync(folder, { recursive: true });
  for (const month of months('2025-02', 14)) {
    const file = path.join(folder, `${month}.csv`);
    await run(`COPY (SELECT * REPLACE (strftime(sampled_at, '%Y-%m-%d %H:%M') AS sampled_at) FROM demo.bottles WHERE strftime(sampled_at, '%Y-%m') = '${month}' ORDER BY bottle_id) TO '${file}' (FORMAT csv, DELIMITER '|', HEADER)`);
    stamp(file, `${nextMonth(month)}-02T10:15:00Z`);
  }
}

export async function landSightings({ run, localRoot }: DemoPorts): Promise<void> {
  const folder = path.join(localRoot, 'landing/sightings');
  mkdirSync(folder, { recursive: true });
  for (let n = 0; n < DAYS; n++) {
    const day = dayText(n);
    const file = path.join(folder, `${day}.jsonl`);
    await run(`COPY (SELECT * REPLACE (strftime(seen_at, '%Y-%m-%dT%H:%M:%SZ') AS seen_at) FROM demo.sightings WHERE seen_at::DATE = DATE '${day}' ORDER BY sighting_id) TO '${file}' (FORMAT json)`);
    stamp(file, `${day}T22:00:00Z`);
  }
}

export async function landLimits({ run, localRoot }: DemoPorts): Promise<void> {
  const folder = path.join(localRoot, 'landing/limits');
  mkdirSync(folder, { recursive: true });
  const file = path.join(folder, 'water-limits.csv');
  await run(`COPY (SELECT * FROM demo.limits ORDER BY measure, site NULLS FIRST) TO '${file}' (FORMAT csv, HEADER)`);
  stamp(file, '2025-01-20T09:00:00Z');
}

const EVENTS = ['WAKE', 'FIX', 'SEND', 'SLEEP'];

/** Device events: fields between spaces, no header, one packed file a buoy and day. */
export async function landBuoyLogs({ localRoot, progress }: DemoPorts): Promise<void> {
  for (let n = 0; n < DAYS; n++) {
    const day = dayText(n);
    const folder = path.join(localRoot, 'landing/buoy-logs', ...day.split('-'));
    mkdirSync(folder, { recursive: true });
    for (let buoy = 1; buoy <= 48; buoy++) {
      const id = `TB-${String(buoy).padStart(2, '0')}`;
      const draws = new SeededIds(n * 100 + buoy);
      const lines = Array.from({ length: 28 + (draws.snapshotId() % 6) }, (_, index) => {
        const draw = draws.snapshotId();
        const at = new Date(Date.parse(day) + index * 45 * 60_000 + (draw % 600) * 1000).toISOString().replace('.000Z', 'Z');
        return `${at} ${id} ${EVENTS[index % EVENTS.length]} ${-60 - (draw % 35)} ${(12.9 - n * 0.004 - (draw % 20) / 100).toFixed(2)} ${360 + (draw % 120)}`;
      });
      const file = path.join(folder, `${id}.log.gz`);
      writeFileSync(file, gzipSync(`${lines.join('\n')}\n`));
      stamp(file, `${day}T23:59:00Z`);
    }
    progress('Landing buoy logs', n + 1, DAYS);
    await new Promise((resolve) => setImmediate(resolve));
  }
}

const TIDE_TABLE_MONTHS = 12;
/** Months whose table was set by hand, with "n/a" where the gauge was down. */
const WITH_GAPS = new Set([4, 9]);
/** Half a tide, in minutes: 6 h 12.6 min. */
const HALF_TIDE = 372.6;

/** High and low water by place, a file a month, set in fixed width with a header. */
export function landTideTable({ localRoot }: DemoPorts): void {
  const folder = path.join(localRoot, 'landing/tide-table');
  mkdirSync(folder, { recursive: true });
  for (const [index, month] of months('2025-04', TIDE_TABLE_MONTHS).entries()) {
    const lines = [`${'place'.padEnd(16)}${'at'.padEnd(19)}${'kind'.padEnd(6)}${'height_m'.padStart(8)}`];
    const end = Date.parse(`${nextMonth(month)}-01T00:00:00Z`);
    for (const [number, place] of PLACES.entries()) {
      let turn = 0;
      for (let at = Date.parse(`${month}-01T00:00:00Z`) + number * 4 * 60_000; at < end; at += HALF_TIDE * 60_000) {
        const spring = Math.cos((2 * Math.PI * at) / (14.765 * 86_400_000));
        const height = (turn % 2 === 0 ? 4.4 + 0.9 * spring : 1.2 - 0.6 * spring) - number * 0.05;
        const isDown = WITH_GAPS.has(index) && turn % 23 === 7;
        const when = new Date(Math.round(at / 60_000) * 60_000).toISOString().slice(0, 16).replace('T', ' ');
        lines.push(`${place.padEnd(16)}${when.padEnd(19)}${(turn % 2 === 0 ? 'high' : 'low').padEnd(6)}${(isDown ? 'n/a' : height.toFixed(2)).padStart(8)}`);
        turn++;
      }
    }
    const file = path.join(folder, `${month}.txt`);
    writeFileSync(file, `${lines.join('\n')}\n`);
    stamp(file, `${month}-01T04:00:00Z`);
  }
}

const WARNINGS = ['Coliforms above the limit after rain.', 'Jellyfish in numbers; look before you wade.', 'Strong ebb by the steps; keep inside the buoys.', 'Sampling boat at work.'];

/** Bathing notices, a file a month, as XML: a place with its position, and one or more measures. */
export function landNotices({ localRoot }: DemoPorts): void {
  const folder = path.join(localRoot, 'landing/notices');
  mkdirSync(folder, { recursive: true });
  let id = 100;
  for (const [index, month] of months('2025-10', 6).entries()) {
    const draws = new SeededIds(7000 + index);
    const notices = Array.from({ length: 9 + (draws.snapshotId() % 5) }, () => {
      const draw = draws.snapshotId();
      const place = draw % PLACES.length;
      const measures = [`<measure name="coliform_cfu">${180 + (draw % 900)}</measure>`, ...(draw % 3 === 0 ? [`<measure name="temp_c">${(9 + (draw % 70) / 10).toFixed(1)}</measure>`] : [])];
      const day = String(1 + (draw % 28)).padStart(2, '0');
      return [
        `  <notice id="${++id}" level="${draw % 4 === 0 ? 'closed' : 'advice'}">`, `    <issued>${month}-${day}T0${draw % 10}:30:00Z</issued>`,
        `    <place lat="${(54.3 + place * 0.011).toFixed(3)}" lon="${(-1.2 + place * 0.017).toFixed(3)}">${PLACES[place]}</place>`, ...measures.map((measure) => `    ${measure}`),
        `    <text>${WARNINGS[draw % WARNINGS.length]}</text>`, '  </notice>',
      ].join('\n');
    });
    const file = path.join(folder, `${month}.xml`);
    writeFileSync(file, `<?xml version="1.0" encoding="UTF-8"?>\n<notices bay="Tern Bay" month="${month}">\n${notices.join('\n')}\n</notices>\n`);
    stamp(file, `${nextMonth(month)}-01T06:00:00Z`);
  }
}

/** The smallest picture there is: one dot. */
const DOT_PNG = 'iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg==';

/** Three kinds of file in one folder: two tables, and pictures, which are none. */
export function landScratch({ localRoot }: DemoPorts): void {
  const folder = path.join(localRoot, 'landing/scratch');
  mkdirSync(folder, { recursive: true });
  const files: [name: string, content: string | Buffer][] = [
    ['probe-trial.csv', 'at,probe,reading\n2026-02-03 10:00,A,7.4\n2026-02-03 10:05,A,7.5\n2026-02-03 10:10,B,7.1\n'],
    ['probe-trial-2.csv', 'at,probe,reading\n2026-02-04 10:00,A,7.3\n2026-02-04 10:05,B,7.2\n'],
    ['crew.json', '[{"name": "M. Reed", "boat": "Little Auk"}, {"name": "J. Okafor", "boat": "Dunlin"}]\n'],
    ['chart.png', Buffer.from(DOT_PNG, 'base64')],
    ['chart-old.png', Buffer.from(DOT_PNG, 'base64')],
  ];
  for (const [name, content] of files) {
    const file = path.join(folder, name);
    writeFileSync(file, content);
    stamp(file, '2026-02-05T17:30:00Z');
  }
}

export function months(first: string, count: number): string[] {
  const [year, month] = first.split('-').map(Number) as [number, number];
  return Array.from({ length: count }, (_, index) => new Date(Date.UTC(year, month - 1 + index, 1)).toISOString().slice(0, 7));
}

function nextMonth(month: string): string {
  return months(month, 2)[1]!;
}

function stamp(file: string, iso: string): void {
  const seconds = Date.parse(iso) / 1000;
  utimesSync(file, seconds, seconds);
}
