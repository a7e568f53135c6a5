/** Engine errors as errors that may be shown: our names and storage paths instead of the engine's, positions in the user's text. */
import { normalize } from 'node:path';
import { LakeError, type ErrorKind } from '../../core/errors';
import { isJson } from '../../core/json';
import { readRecords, type TextDialect } from '../../core/text/records';
import { EngineError } from './failures';
import { linesOf } from './lines-of';
import { MISFIT } from './text-readers';

/** A file of a storage, as people name it. */
export interface Place {
  storage: string;
  path: string;
}

export interface Translation {
  /** Stand-in names to the names in the user's text. */
  names?: ReadonlyMap<string, string>;
  /** Local folder of each storage that lies on this machine, to its name. */
  roots: ReadonlyMap<string, string>;
  /** Local copies of files to what they are copies of. */
  copies?: ReadonlyMap<string, Place>;
  originalPosition?: (bytes: number) => number;
}

const KINDS: Record<string, ErrorKind> = {
  'Out of Memory': 'limit', Interrupt: 'cancelled', limit: 'limit', cancelled: 'cancelled', Permission: 'refused', 'IO': 'bad-file', 'Invalid Input': 'bad-file',
};

/** Stand around a storage's name, before a path, while a message is worked on. */
const [OPEN, CLOSE] = ['\u0001', '\u0002'];

export function translateError(error: unknown, translation: Translation): unknown {
  if (!(error instanceof EngineError)) return error;
  if (/max_temp_directory_size|No space left on device/.test(error.message)) {
    return new LakeError('limit', 'The query needs more memory than it may use, and more room on disk than there is for what memory does not hold.', { hint: 'Ask for fewer rows or columns, aggregate earlier, or give it more (KIND_HARBOR_ENGINE_MEMORY, KIND_HARBOR_SPILL_GB, free space where the data folder lies).' });
  }
  if (error.kind === 'Out of Memory') {
    return new LakeError('limit', 'The query needs more memory than it may use. Ask for fewer rows or columns, aggregate earlier, or give the engine more (KIND_HARBOR_ENGINE_MEMORY).');
  }
  if (isDamage(error)) return damageOf(error, translation);
  const misfit = error.message.indexOf(`${MISFIT} {`);
  if (misfit >= 0) return misfitError(error.message.slice(misfit + MISFIT.length + 1), translation);
  const message = withPlaces(error.message, translation);
  const place = placeIn(message);
  const line = place && /Malformed JSON/.test(message) ? badJsonLine(error.message, translation) : /[Ll]ine:?\s+(\d+)/.exec(message)?.[1];
  const kind = place ? 'bad-file' : (KINDS[error.kind] ?? 'bad-request');
  const refused = refusedValue(message);
  return new LakeError(kind, (place && lineFault(message, place)) ?? clean(message, translation), {
    ...(refused ? { field: refused.column, value: refused.value } : {}),
    ...(place ? { path: place.path } : {}),
    ...(place && line ? { line: Number(line) } : {}),
    ...(error.position === undefined || !translation.originalPosition ? {} : { position: translation.originalPosition(error.position) }),
  });
}

/** What the engine says where a file's bytes are not what its own description says; most of it names no file. */
const DAMAGE = /TProtocolException|TTransport|invalid TType|don't know what type|Out of buffer|No magic bytes|Footer (length|metadata)|likely corrupted|bit width too large|Invalid exception type|dictionary|[Dd]ecompress|[Dd]ecoding|corrupt|page header|column chunk|row group|INTERNAL|Failed to cast|Malformed|vector::|basic_string|std::|out of range at|Variable-length int|Payload value|[Cc]orrupted|stats size/;
const OF_WHOLE_TEXT = new Set(['binder', 'parser', 'syntax', 'catalog', 'permission', 'interrupt', 'out of memory', 'limit', 'cancelled', 'conversion', 'constraint', 'not implemented', 'dependency', 'out of range']);

function isDamage({ kind, message }: EngineError): boolean {
  if (OF_WHOLE_TEXT.has(kind.toLowerCase()) || message.includes(MISFIT) || /CSV|JSON/.test(message)) return false;
  return kind === 'unknown' || kind.toLowerCase() === 'internal' || DAMAGE.test(message);
}

function damageOf({ message }: EngineError, translation: Translation): LakeError {
  const place = placeIn(withPlaces(message, translation));
  const what = /No magic bytes|too small/.test(message) ? 'it does not end as a Parquet file ends, so it is cut short or none' : 'its bytes are not what its own description of them says';
  if (place) return new LakeError('bad-file', `${place.storage}:${place.path} is damaged: ${what}.`, { path: place.path });
  const names = [...(translation.names?.values() ?? [])];
  return new LakeError('bad-file', `A file of ${names.length > 0 ? names.join(' or ') : 'the table'} is damaged: ${what}.`, names.length > 0 ? { table: names[0]! } : {});
}

/** The message with local paths made `storage` and path, the storage between marks. */
function withPlaces(message: string, { roots, copies }: Translation): string {
  let text = message;
  for (const [local, { storage, path }] of copies ?? []) text = text.replaceAll(local, `${OPEN}${storage}${CLOSE}${path}`);
  for (const [root, storage] of roots) text = text.replaceAll(`${root}/`, `${OPEN}${storage}${CLOSE}`);
  return text;
}

function placeIn(message: string): Place | undefined {
  // eslint-disable-next-line no-control-regex
  const [, storage, path] = /\u0001(.*?)\u0002([^"'\n\u0001]*)/.exec(message) ?? [];
  return storage === undefined ? undefined : { storage, path: path!.replace(/[.,:)]+$/, '').trim() };
}

/** The value that the engine's reader of delimited text could not turn. */
function refusedValue(message: string): { column: string; value: string; type: string } | undefined {
  const [, column] = /converting column "(.*?)"\./.exec(message) ?? [];
  const [, value, type] = /Could not convert string "(.*?)" to '(.*?)'/s.exec(message) ?? [];
  return column === undefined || value === undefined ? undefined : { column, value, type: type! };
}

/** What is wrong with a line of a delimited file, out of the engine's long account of it. */
function lineFault(message: string, { storage, path }: Place): string | undefined {
  const line = /CSV Error on Line:\s*(\d+)/.exec(message)?.[1];
  if (line === undefined) return undefined;
  const at = `${storage}:${path}, line ${line}`;
  const refused = refusedValue(message);
  if (refused) return `${at}: "${refused.value.slice(0, 100)}" in ${refused.column} is not a ${refused.type.toLowerCase()}.`;
  const [, expected, found] = /Expected Number of Columns:\s*(\d+)\s*Found:\s*(\d+)/.exec(message) ?? [];
  return expected === undefined ? undefined : `${at}: expected ${expected} fields, found ${found}.`;
}

/** The engine's own count of lines is one too many in some files and right in others, so they are counted here. */
function badJsonLine(message: string, { roots, copies }: Translation): number | undefined {
  const file = /in file "(.*?)"/.exec(message)?.[1] ?? '';
  const isOurs = copies?.has(file) === true || [...roots.keys()].some((root) => file.startsWith(`${root}/`));
  const lines = isOurs && normalize(file) === file ? linesOf(file) : undefined;
  const at = lines?.findIndex((line) => line.trim() !== '' && !isJson(line)) ?? -1;
  return at < 0 ? undefined : at + 1;
}

/** A line that a reader of ours refused; the engine knows its text, and its number is looked up. */
function misfitError(json: string, translation: Translation): LakeError {
  const { file, line, column, value, type, cut, json: isMember } = JSON.parse(/^\{.*\}/s.exec(json)![0]) as { file: string; line: string | null; column: string; value: string; type?: string; cut?: CutValue; json?: boolean };
  const { storage, path } = placeIn(withPlaces(file, translation)) ?? { storage: '', path: '' };
  const isOurs = storage !== '' && normalize(file) === file;
  const number = !isOurs ? undefined : cut ? lineOfValue(file, value, cut) : isMember ? lineOfMember(file, column, value) : lineNumber(file, line!);
  const at = `${storage}:${path}${number === undefined ? '' : `, line ${number}`}`;
  const fault = column === '' ? `the line "${line!.slice(0, 120)}" does not match the pattern` : `"${value.slice(0, 100)}" in ${column} is not a ${type}`;
  return new LakeError('bad-file', `${at}: ${fault}.`, { path, ...(number === undefined ? {} : { line: number }), ...(column === '' ? {} : { field: column, value }), hint: 'Correct how the file is read, or have lines that do not fit set aside.' });
}

/** Where in a delimited line a value stands. */
interface CutValue extends TextDialect {
  index: number;
  skip: number;
}

/** The first line whose field at that place has the text, blanks around it aside. */
function lineOfValue(file: string, value: string, { index, skip, ...dialect }: CutValue): number | undefined {
  const lines = linesOf(file);
  const { records } = readRecords(lines?.join('\n') ?? '', dialect);
  return records.find((record) => record.line > skip && record.cells[index]?.trim() === value.trim())?.line;
}

/** The first line whose object has the value under the name. */
function lineOfMember(file: string, name: string, value: string): number | undefined {
  const at = (linesOf(file) ?? []).findIndex((line) => line.includes(value) && memberOf(line, name) === value);
  return at < 0 ? undefined : at + 1;
}

function memberOf(line: string, name: string): string | undefined {
  try {
    return String((JSON.parse(line) as Record<string, unknown>)[name]);
  } catch {
    return undefined;
  }
}

/** The number of the first line with that text, from 1; undefined for what cannot be looked up. */
function lineNumber(file: string, line: string): number | undefined {
  const at = linesOf(file)?.indexOf(line) ?? -1;
  return at < 0 ? undefined : at + 1;
}

function clean(message: string, { names }: Translation): string {
  // eslint-disable-next-line no-control-regex
  let text = message.replace(/\u0001(.*?)\u0002/g, '$1:');
  for (const [standIn, name] of names ?? []) text = text.replaceAll(standIn, name);
  // The engine's advice on its own settings is of no use to somebody who cannot set them.
  text = text.split('\n').filter((line) => !/^\s*(Possible (fixes|solutions)|\* |LINE \d|\^)/.test(line)).join(' ').replace(/\s{2,}/g, ' ').trim();
  return /[.!?]$/.test(text) ? text : `${text}.`;
}
