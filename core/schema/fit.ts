/** Whether values of one type can be written to a column of another as they are. */
import { isNested, sameType, type Field, type LogicalType } from './types';

/** `same`; `fits`: every value has a place in the wider type; `cast`: some values may have none, and somebody must agree to it. */
export type Fit = 'same' | 'fits' | 'cast';

const WHOLE = ['byte', 'short', 'int', 'long'];

export function fitOf(from: LogicalType, to: LogicalType): Fit {
  if (sameType(from, to)) return 'same';
  if (isNested(from) || isNested(to)) return nestedFit(from, to);
  return isWider(from, to) ? 'fits' : 'cast';
}

function isWider(from: LogicalType, to: LogicalType): boolean {
  if (WHOLE.includes(from.kind)) {
    if (WHOLE.includes(to.kind)) return WHOLE.indexOf(to.kind) > WHOLE.indexOf(from.kind);
    if (to.kind === 'decimal') return to.precision - to.scale >= { byte: 3, short: 5, int: 10, long: 19 }[from.kind as 'byte']!;
    return to.kind === 'double' && from.kind !== 'long';
  }
  if (from.kind === 'decimal') return to.kind === 'decimal' && to.scale >= from.scale && to.precision - to.scale >= from.precision - from.scale;
  if (from.kind === 'float') return to.kind === 'double';
  if (from.kind === 'date') return to.kind === 'timestamp';
  return from.kind === 'uuid' && to.kind === 'string';
}

function nestedFit(from: LogicalType, to: LogicalType): Fit {
  if (from.kind === 'list' && to.kind === 'list') return fitOf(from.element.type, to.element.type);
  if (from.kind === 'map' && to.kind === 'map') return worst([fitOf(from.key.type, to.key.type), fitOf(from.value.type, to.value.type)]);
  if (from.kind === 'struct' && to.kind === 'struct') {
    const inner = (name: string): Field | undefined => from.fields.find((each) => each.name.toLowerCase() === name.toLowerCase());
    const extra = from.fields.some((each) => !to.fields.some((other) => other.name.toLowerCase() === each.name.toLowerCase()));
    return worst([extra ? 'cast' : 'same', ...to.fields.map((each): Fit => (inner(each.name) ? fitOf(inner(each.name)!.type, each.type) : each.required ? 'cast' : 'fits'))]);
  }
  return 'cast';
}

function worst(fits: readonly Fit[]): Fit {
  return fits.includes('cast') ? 'cast' : fits.includes('fits') ? 'fits' : 'same';
}
