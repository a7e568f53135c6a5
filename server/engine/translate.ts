/** Engine errors as errors that may be shown: our names and storage paths instead of the engine's, positions in the user's text. */
import { LakeError, type ErrorKind } from '../../core/errors';
import { EngineError } from './failures';

export interface Translation {
  /** Stand-in names to the names in the user's text. */
  names?: ReadonlyMap<string, string>;
  /** Local folder of each storage to its name. */
  roots: ReadonlyMap<string, string>;
  originalPosition?: (bytes: number) => number;
}

const KINDS: Record<string, ErrorKind> = {
  'Out of Memory': 'limit', Interrupt: 'cancelled', limit: 'limit', cancelled: 'cancelled', Permission: 'refused', 'IO': 'bad-file', 'Invalid Input': 'bad-file',
};

export function translateError(error: unknown, translation: Translation): unknown {
  if (!(error instanceof EngineError)) return error;
  const path = pathIn(error.message, translation.roots);
  const line = /[Ll]ine:?\s+(\d+)/.exec(error.message)?.[1];
  const kind = path ? 'bad-file' : (KINDS[error.kind] ?? 'bad-request');
  if (error.kind === 'Out of Memory') {
    return new LakeError('limit', 'The query needs more memory than it may use. Ask for fewer rows or columns, aggregate earlier, or give the engine more (KIND_HARBOR_ENGINE_MEMORY).');
  }
  return new LakeError(kind, (path && lineFault(error.message, path, translation)) ?? clean(error.message, translation), {
    ...(path ? { path } : {}),
    ...(path && line ? { line: Number(line) } : {}),
    ...(error.position === undefined || !translation.originalPosition ? {} : { position: translation.originalPosition(error.position) }),
  });
}

/** What is wrong with a line of a text file, out of the engine's long account of it. */
function lineFault(message: string, path: string, { roots }: Translation): string | undefined {
  const line = /CSV Error on Line:\s*(\d+)/.exec(message)?.[1];
  if (line === undefined) return undefined;
  const storage = [...roots].find(([root]) => message.includes(`${root}/${path}`))?.[1];
  const place = `${storage === undefined ? '' : `${storage}:`}${path}, line ${line}`;
  const [, column] = /converting column "(.*?)"\./.exec(message) ?? [];
  const [, value, type] = /Could not convert string "(.*?)" to '(.*?)'/s.exec(message) ?? [];
  if (column !== undefined && value !== undefined) return `${place}: "${value.slice(0, 100)}" in ${column} is not a ${type!.toLowerCase()}.`;
  const [, expected, found] = /Expected Number of Columns:\s*(\d+)\s*Found:\s*(\d+)/.exec(message) ?? [];
  return expected === undefined ? undefined : `${place}: expected ${expected} fields, found ${found}.`;
}

function pathIn(message: string, roots: ReadonlyMap<string, string>): string | undefined {
  for (const root of roots.keys()) {
    const at = message.indexOf(`${root}/`);
    if (at >= 0) return /^[^"'\n]*/.exec(message.slice(at + root.length + 1))![0].replace(/[.,:)]+$/, '').trim();
  }
  return undefined;
}

function clean(message: string, { names, roots }: Translation): string {
  let text = message;
  for (const [root, storage] of roots) text = text.replaceAll(`${root}/`, `${storage}:`);
  for (const [standIn, name] of names ?? []) text = text.replaceAll(standIn, name);
  // The engine's advice on its own settings is of no use to somebody who cannot set them.
  text = text.split('\n').filter((line) => !/^\s*(Possible (fixes|solutions)|\* |LINE \d|\^)/.test(line)).join(' ').replace(/\s{2,}/g, ' ').trim();
  return /[.!?]$/.test(text) ? text : `${text}.`;
}
