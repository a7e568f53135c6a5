import { findField, sameType, type Field, type LogicalType } from './types';

const INTEGERS = ['byte', 'short', 'int', 'long'];

/** The narrowest type that holds every value of both without loss, or undefined when there is none. */
export function widen(a: LogicalType, b: LogicalType): LogicalType | undefined {
  if (sameType(a, b)) return a;
  const [i, j] = [INTEGERS.indexOf(a.kind), INTEGERS.indexOf(b.kind)];
  if (i >= 0 && j >= 0) return i > j ? a : b;
  const kinds = [a.kind, b.kind];
  const [first, second] = kinds;
  if (kinds.includes('double') && kinds.some((kind) => kind === 'float' || ['byte', 'short', 'int'].includes(kind))) return { kind: 'double' };
  if (kinds.includes('float') && kinds.some((kind) => kind === 'byte' || kind === 'short')) return { kind: 'float' };
  if (kinds.includes('long') && kinds.some((kind) => kind === 'double' || kind === 'float')) return { kind: 'double' };
  if (kinds.includes('date') && kinds.includes('timestamp')) return { kind: 'timestamp' };
  if (a.kind === 'decimal' && b.kind === 'decimal') {
    const scale = Math.max(a.scale, b.scale);
    const precision = Math.max(a.precision - a.scale, b.precision - b.scale) + scale;
    return precision <= 38 ? { kind: 'decimal', precision, scale } : undefined;
  }
  if (a.kind === 'struct' && b.kind === 'struct') return widenStruct(a.fields, b.fields);
  if (a.kind === 'list' && b.kind === 'list') {
    const element = widen(a.element.type, b.element.type);
    return element && { kind: 'list', element: { ...a.element, type: element } };
  }
  return first === second ? a : undefined;
}

function widenStruct(a: Field[], b: Field[]): LogicalType | undefined {
  const merged: Field[] = [];
  for (const left of a) {
    const right = findField(b, left.name);
    const type = right ? widen(left.type, right.type) : left.type;
    if (!type) return undefined;
    merged.push({ ...left, type, required: left.required && (right?.required ?? false) });
  }
  return { kind: 'struct', fields: [...merged, ...b.filter((each) => !findField(a, each.name))] };
}
