/** Lines of logs in forms that programs share: web servers, the system, a time with a level, and keys with values. */

export interface LogForm {
  /** What it is called. */
  name: string;
  /** For a whole line, each named group a column. */
  pattern: string;
  source: string;
}

const QUOTED = String.raw`(?:[^"\\]|\\.)*`;
const COMMON = [
  String.raw`(?P<host>\S+) (?P<identity>\S+) (?P<user>.*?) \[(?P<time>[^\]]+)\] `,
  String.raw`"(?:(?P<method>[A-Z]+) )?(?P<path>${QUOTED}?)(?: (?P<protocol>HTTP/[0-9.]+))?" `,
  String.raw`(?P<status>\d{3}|-) (?P<bytes>\d+|-)`,
].join('');

/** The most particular first. */
export const LOG_FORMS: readonly LogForm[] = [
  {
    name: 'the combined log format of web servers',
    pattern: `${COMMON} "(?P<referrer>${QUOTED})" "(?P<agent>${QUOTED})".*`,
    source: 'Apache HTTP Server documentation, "Combined Log Format"',
  },
  {
    name: 'the common log format of web servers',
    pattern: COMMON,
    source: 'Apache HTTP Server documentation, "Common Log Format"',
  },
  {
    name: 'syslog (RFC 5424)',
    pattern: [
      String.raw`<(?P<priority>\d{1,3})>(?P<version>\d{1,2}) (?P<time>\S+) (?P<host>\S+) (?P<program>\S+) `,
      String.raw`(?P<process>\S+) (?P<message_id>\S+) (?P<data>-|(?:\[(?:[^\]\\]|\\.)*\])+) ?(?P<message>.*)`,
    ].join(''),
    source: 'RFC 5424, 6',
  },
  {
    name: 'syslog (RFC 3164)',
    pattern: [
      String.raw`(?:<(?P<priority>\d{1,3})>)?(?P<time>[A-Z][a-z][a-z] [ \d]\d \d\d:\d\d:\d\d) `,
      String.raw`(?P<host>\S+) (?P<program>[^\s:\[]+)(?:\[(?P<process>\d+)\])?: ?(?P<message>.*)`,
    ].join(''),
    source: 'RFC 3164, 4.1',
  },
  {
    name: 'a time, a level and a message',
    pattern: [
      String.raw`\[?(?P<time>\d{4}-\d\d-\d\d[T ]\d\d:\d\d:\d\d(?:[.,]\d{1,6})?(?:Z|[+-]\d\d:?\d\d)?)\]?[ \t]+`,
      String.raw`\[?(?P<level>TRACE|DEBUG|INFO|NOTICE|WARN|WARNING|ERROR|CRITICAL|FATAL`,
      String.raw`|trace|debug|info|notice|warn|warning|error|critical|fatal)\]?:?[ \t]+(?P<message>.*)`,
    ].join(''),
    source: 'common practice',
  },
];

/** Of a hundred lines so many must fit; the others are told. */
const FITTING = 90;
const FEWEST_LINES = 3;

/** The form that the lines have, and how many do not; undefined where they have none that is known. */
function logFormOf(lines: readonly string[]): { form: LogForm; misfits: number } | undefined {
  const full = lines.filter((line) => line.trim() !== '');
  if (full.length < FEWEST_LINES) return undefined;
  for (const form of LOG_FORMS) {
    const whole = new RegExp(`^${form.pattern.replaceAll('(?P<', '(?<')}$`, 'u');
    const misfits = full.filter((line) => !whole.test(line)).length;
    if (full.length - misfits >= (full.length * FITTING) / 100) return { form, misfits };
  }
  return undefined;
}

// One blank only before a key: a run of them would be tried from each of its blanks.
const PAIR = /(?:^|[ \t])([A-Za-z_@][\w.@/-]*)=("(?:[^"\\]|\\.)*"|[^\s"]\S*|)(?=[ \t]|$)/g;

/** The pairs of a line such as `level=info msg="it runs"`, and the words beside them; undefined where it has none. */
function pairsOf(line: string): { pairs: [key: string, value: string][]; rest: string } | undefined {
  const pairs: [string, string][] = [];
  const rest = line
    .replace(PAIR, (_, key: string, value: string) => {
      pairs.push([key, value.startsWith('"') ? unquoted(value) : value]);
      return ' ';
    })
    .trim();
  return pairs.length === 0 ? undefined : { pairs, rest };
}

function unquoted(text: string): string {
  return text.slice(1, -1).replace(/\\(["\\nrt])/g, (_, mark: string) => ({ n: '\n', r: '\r', t: '\t' })[mark] ?? mark);
}

/** What the lines are; undefined where they are of no form that is known. */
export function logLayout(lines: readonly string[]): { form: LogForm; misfits: number } | 'pairs' | undefined {
  return logFormOf(lines) ?? (arePairs(lines) ? 'pairs' : undefined);
}

/** Whether lines are keys with values, and little else. */
function arePairs(lines: readonly string[]): boolean {
  const full = lines.filter((line) => line.trim() !== '').slice(0, 200);
  if (full.length < FEWEST_LINES) return false;
  const fitting = full.filter((line) => {
    const found = pairsOf(line);
    return found !== undefined && found.pairs.length >= 2 && found.rest.length <= line.length / 3;
  }).length;
  return fitting >= (full.length * FITTING) / 100;
}

/**
 * A line of pairs as a JSON object. A key that comes again has its last value; words beside the pairs are `message`, or `rest`
 * where a key is called so.
 */
export function pairsAsJson(line: string): string | undefined {
  if (line.trim() === '') return undefined;
  const { pairs, rest } = pairsOf(line) ?? { pairs: [], rest: line.trim() };
  const members = new Map(pairs);
  if (rest !== '') members.set(members.has('message') ? 'rest' : 'message', rest);
  const text = (value: string) => (isJsonNumber(value) ? value : value === '' ? 'null' : JSON.stringify(value));
  return `{${[...members].map(([key, value]) => `${JSON.stringify(key)}:${text(value)}`).join(',')}}`;
}

function isJsonNumber(text: string): boolean {
  return /^-?(0|[1-9]\d{0,17})(\.\d{1,15})?$/.test(text);
}
