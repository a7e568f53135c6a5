/** Differences in columns or types between two looks at the same files. */
import { findField, sameType, type Field } from '../schema/types';
import { typeName } from '../schema/type-names';

export interface Drift {
  kind: 'column came' | 'column went' | 'type changed';
  column: string;
  before: string | null;
  after: string | null;
  /** For a column that came: one that went with the same type, which it may be under another name. */
  maybe?: string;
}

/** What differs now; an empty list when nothing does. */
export function driftBetween(before: readonly Field[], now: readonly Field[]): Drift[] {
  const went = before.filter((field) => !findField(now, field.name));
  const came = now.filter((field) => !findField(before, field.name));
  const paired = renames(went, came);
  return [
    ...came.map((field): Drift => ({ kind: 'column came', column: field.name, before: null, after: typeName(field.type), ...(paired.has(field.name) ? { maybe: paired.get(field.name)! } : {}) })),
    ...went.map((field): Drift => ({ kind: 'column went', column: field.name, before: typeName(field.type), after: null })),
    ...now.flatMap((field): Drift[] => {
      const old = findField(before, field.name);
      return old && !sameType(old.type, field.type) ? [{ kind: 'type changed', column: field.name, before: typeName(old.type), after: typeName(field.type) }] : [];
    }),
  ];
}

/** New name to old name, where exactly one column of a type went and one came, or their names are close. */
export function renames(went: readonly Field[], came: readonly Field[]): Map<string, string> {
  const pairs = new Map<string, string>();
  for (const field of came) {
    const same = went.filter((old) => sameType(old.type, field.type) && ![...pairs.values()].includes(old.name));
    const close = same.find((old) => closeNames(old.name, field.name));
    const only = same.length === 1 && came.filter((other) => sameType(other.type, field.type)).length === 1 ? same[0] : undefined;
    const chosen = close ?? only;
    if (chosen) pairs.set(field.name, chosen.name);
  }
  return pairs;
}

/** The same words in another spelling, or one name within the other. */
function closeNames(a: string, b: string): boolean {
  const [x, y] = [a, b].map((name) => name.toLowerCase().replace(/[^\p{L}\p{N}]/gu, ''));
  return x === y || (Math.min(x!.length, y!.length) >= 4 && (x!.includes(y!) || y!.includes(x!)));
}

export function driftText(drifts: readonly Drift[]): string {
  const names = (kind: Drift['kind']) => drifts.filter((each) => each.kind === kind);
  const [came, went, changed] = [names('column came'), names('column went'), names('type changed')];
  return [
    ...(came.length > 0 ? [`${came.map((each) => (each.maybe ? `${each.column} (${each.maybe} under another name?)` : each.column)).join(', ')} came`] : []),
    ...(went.length > 0 ? [`${went.map((each) => each.column).join(', ')} went`] : []),
    ...changed.map((each) => `${each.column}: ${each.before} became ${each.after}`),
  ].join('; ');
}

/** Only new columns, and none that may be a rename: nothing that reads the table can break. */
export function isAddition(drifts: readonly Drift[]): boolean {
  return drifts.length > 0 && drifts.every((each) => each.kind === 'column came' && each.maybe === undefined);
}

/**
 * The registered columns brought up to what is there now: columns as somebody corrected them stay so while what they
 * rest on is as it was; `found` is what the files showed when they were registered, in the same order.
 */
export function mergeFields(registered: readonly Field[], found: readonly Field[], now: readonly Field[]): Field[] {
  return now.map((field) => {
    const at = found.findIndex((old) => old.name.toLowerCase() === field.name.toLowerCase());
    const corrected = at >= 0 ? registered[at] : undefined;
    return corrected && sameType(found[at]!.type, field.type) ? corrected : field;
  });
}
