/** The columns of fixed-width text, as people write them: `place 1-14, at 16-31, height_m 33-37`. */
import { LakeError } from '../errors';

export interface RulerColumn {
  name: string;
  /** First and last character in the line, counted from 1, both included. */
  from: number;
  to: number;
}

/** Fails naming the part that is not understood, or two columns that overlap or share a name. */
export function parseRuler(text: string): RulerColumn[] {
  const columns = text.split(',').map((part) => part.trim()).filter((part) => part !== '').map((part) => {
    const match = /^(.+?)\s+(\d{1,6})\s*(?:-\s*(\d{1,6}))?$/.exec(part);
    const [from, to] = [Number(match?.[2]), Number(match?.[3] ?? match?.[2])];
    if (!match || from < 1 || to < from) throw new LakeError('bad-request', `"${part}" is not a column of a ruler; write it as height_m 33-37, the first and last character.`);
    return { name: match[1]!, from, to };
  });
  checkRuler(columns);
  return columns;
}

export function checkRuler(columns: readonly RulerColumn[]): void {
  if (columns.length === 0) throw new LakeError('bad-request', 'The ruler has no column; write it as place 1-14, height_m 33-37.');
  const ordered = [...columns].sort((a, b) => a.from - b.from);
  for (const [index, column] of ordered.entries()) {
    const before = ordered[index - 1];
    if (before && before.to >= column.from) throw new LakeError('bad-request', `The columns ${before.name} and ${column.name} overlap at character ${column.from}.`);
    if (ordered.some((other, at) => at < index && other.name.toLowerCase() === column.name.toLowerCase())) throw new LakeError('bad-request', `Two columns are called "${column.name}".`);
  }
}

export function rulerText(columns: readonly RulerColumn[]): string {
  return columns.map(({ name, from, to }) => `${name} ${from === to ? from : `${from}-${to}`}`).join(', ');
}
