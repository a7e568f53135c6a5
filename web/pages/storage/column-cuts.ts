import type { RulerColumn } from '../../../core/folder/column-ruler';

/** The columns with a cut before character `at` (from 1), or without it when there was one. Names stay with the left part. */
export function cutAt(columns: readonly RulerColumn[], at: number, width: number): RulerColumn[] {
  if (at <= 1) return [...columns];
  const ordered = [...columns].sort((a, b) => a.from - b.from);
  const index = ordered.findIndex((column) => column.from === at);
  if (index > 0) {
    const [left, right] = [ordered[index - 1]!, ordered[index]!];
    return [...ordered.slice(0, index - 1), { ...left, to: right.to }, ...ordered.slice(index + 1)];
  }
  const inside = ordered.findIndex((column) => column.from < at && column.to >= at);
  const fresh = (from: number, to: number) => ({ name: freeName(ordered), from, to });
  if (inside >= 0) return [...ordered.slice(0, inside), { ...ordered[inside]!, to: at - 1 }, fresh(at, ordered[inside]!.to), ...ordered.slice(inside + 1)];
  const next = ordered.find((column) => column.from > at);
  return [...ordered, fresh(at, next ? next.from - 1 : width)].sort((a, b) => a.from - b.from);
}

function freeName(columns: readonly RulerColumn[]): string {
  for (let n = columns.length + 1; ; n++) if (!columns.some((column) => column.name === `field_${n}`)) return `field_${n}`;
}
