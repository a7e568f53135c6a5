import { LakeError } from '../errors';
import type { AsOf } from '../table/contract';
import { parseTimestamp } from '../values/text';

/** An AS OF as it stands in a query, with its place in the text. */
export interface AsOfClause {
  asOf: AsOf;
  position: number;
}

export function asOfNumber(text: string, position: number): AsOfClause {
  if (!/^\d+$/.test(text)) throw new LakeError('bad-request', `"${text}" is not a version number.`, { position });
  return { asOf: { kind: 'number', number: BigInt(text) }, position };
}

/** The name of a branch or tag, or a snapshot id in quotes. */
export function asOfName(name: string, position: number): AsOfClause {
  return /^\d+$/.test(name) ? asOfNumber(name, position) : { asOf: { kind: 'ref', name }, position };
}

/** Times without an offset are UTC. */
export function asOfTime(text: string, position: number): AsOfClause {
  const micros = parseTimestamp(text);
  if (micros === undefined) {
    throw new LakeError('bad-request', `"${text}" is not a time. Write it as '2026-03-14 06:00' or '2026-03-14T06:00:00+01:00'; without an offset it is UTC.`, { position });
  }
  return { asOf: { kind: 'time', at: Number(micros / 1000n) }, position };
}
