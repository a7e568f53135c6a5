/** Numbers, sizes and times as every page shows them. */

export { formatBytes as bytesText } from '../../core/values/bytes';

const GROUPED = new Intl.NumberFormat('en-GB', { maximumFractionDigits: 0 });

export function countText(count: number): string {
  return GROUPED.format(count);
}

/** "1 file", "24 files". */
export function plural(count: number, one: string, many = `${one}s`): string {
  return `${countText(count)} ${count === 1 ? one : many}`;
}

const DAY = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short', year: 'numeric' });
const TIME = new Intl.DateTimeFormat('en-GB', { hour: '2-digit', minute: '2-digit' });
const SHORT_DAY = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short' });

/** "5 Mar 2026 16:04", local. */
export function timeText(at: number | string): string {
  const date = new Date(at);
  return `${DAY.format(date)} ${TIME.format(date)}`;
}

/** "5 Mar 2026", local. */
export function dayText(at: number | string): string {
  return DAY.format(new Date(at));
}

export function shortDayText(at: number | string): string {
  return SHORT_DAY.format(new Date(at));
}

/** For the tooltip of a time: UTC, to the second. */
export function utcText(at: number | string): string {
  return `${new Date(at).toISOString().slice(0, 19).replace('T', ' ')} UTC`;
}

/** "now", "8 min", "3 h", then the day. */
export function agoText(at: number | string, now = Date.now()): string {
  const minutes = Math.floor((now - new Date(at).getTime()) / 60_000);
  if (minutes < 1) return 'now';
  if (minutes < 60) return `${minutes} min`;
  return minutes < 24 * 60 ? `${Math.floor(minutes / 60)} h` : shortDayText(at);
}

/** "84 ms", "1.2 s". */
export function millisText(millis: number): string {
  return millis < 1000 ? `${Math.round(millis)} ms` : `${Number((millis / 1000).toPrecision(3))} s`;
}

export function percentText(share: number): string {
  if (share === 0) return '0';
  return share < 0.005 ? '<1%' : `${Math.round(share * 100)}%`;
}

const FORMATS: Record<string, string> = { delta: 'Delta', iceberg: 'Iceberg', parquet: 'Parquet', csv: 'delimited text', json: 'JSON', fixed: 'fixed width', pattern: 'text lines', xml: 'XML', avro: 'Avro', postgres: 'PostgreSQL' };

export function formatName(format: string | null): string {
  return format === null ? 'view' : (FORMATS[format] ?? format);
}

/** A cell of a result as text; nested values as JSON. */
export function cellText(value: unknown): string {
  if (value === null || value === undefined) return '';
  return typeof value === 'object' ? JSON.stringify(value) : String(value);
}

/** Types whose values line up at the right. */
export function isNumeric(type: string): boolean {
  return /^(tinyint|smallint|integer|bigint|hugeint|u\w*int\w*|float|double|decimal)(\(\d+,\s*\d+\))?$/.test(type);
}
