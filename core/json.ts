import { parse, stringify } from 'lossless-json';

/** Whether the text is JSON. */
export function isJson(text: string): boolean {
  try {
    JSON.parse(text);
    return true;
  } catch {
    return false;
  }
}

/**
 * JSON for table metadata. Snapshot ids have 63 bits, which JSON.parse would round: integers beyond 2^53 come back as
 * bigint, everything else as JSON.parse gives it.
 */
export function parseJson(text: string): unknown {
  if (!/\d{16}/.test(text)) return JSON.parse(text);
  if (!text.includes(MARK)) return parseMarked(text);
  return parse(text, undefined, (digits) => (/^-?\d+$/.test(digits) && !Number.isSafeInteger(Number(digits)) ? BigInt(digits) : Number(digits)));
}

/** Stands before the digits of a number while it goes through JSON.parse as text; a mark that no metadata has. */
const MARK = '\ue000integer ';
const LONG_NUMBER = /-?\d{16,}/g;
const TEXT_OR_LONG_NUMBER = /"(?:[^"\\]|\\.)*"|(?<![\d.])-?\d{16,}(?![\d.eE])/g;

/** As fast as JSON.parse where no number needs more than it gives. */
function parseMarked(text: string): unknown {
  const long = text.match(LONG_NUMBER) ?? [];
  if (long.every((digits) => Number.isSafeInteger(Number(digits)))) return JSON.parse(text);
  let found = false;
  const marked = text.replace(TEXT_OR_LONG_NUMBER, (token) => {
    if (token.startsWith('"') || Number.isSafeInteger(Number(token))) return token;
    found = true;
    return `"${MARK}${token}"`;
  });
  if (!found) return JSON.parse(text);
  return JSON.parse(marked, (_, value: unknown) => (typeof value === 'string' && value.startsWith(MARK) ? BigInt(value.slice(MARK.length)) : value));
}

const TEXT_OR_NO_NUMBER = /"(?:[^"\\]|\\.)*"|-?\b(?:NaN|Infinity)\b/g;

/** JSON as the engine writes it, which puts numbers that JSON does not know as bare words: they become texts. */
export function withQuotedNonNumbers(text: string): string {
  return /NaN|Infinity/.test(text) ? text.replace(TEXT_OR_NO_NUMBER, (token) => (token.startsWith('"') ? token : `"${token}"`)) : text;
}

/** Numbers come back as their text, so that decimals keep every digit. */
export function parseJsonKeepingDigits(text: string): unknown {
  return parse(text, undefined, (digits) => digits);
}

/** Writes bigint as a JSON number. */
export function stringifyJson(value: unknown, indent?: number): string {
  try {
    return JSON.stringify(value, undefined, indent) ?? 'null';
  } catch (error) {
    // It cannot write a bigint, and says so.
    if (!(error instanceof TypeError)) throw error;
  }
  return stringify(value, undefined, indent) ?? 'null';
}
