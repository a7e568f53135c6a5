/**
 * Reads from the engine's optimized plan which predicate reaches each table. The plan is made over stand-in table
 * functions, so filters have passed through aliases, views, common table expressions and joins where that is safe.
 * What cannot be evaluated here counts as true.
 */
import { findField, type Field, type LogicalType } from '../schema/types';
import { and, or, TRUE, type ColumnPath, type Comparison, type Predicate } from '../scan/predicate';
import { MICROS_PER_DAY, type Value } from '../values/value';

type Node = { [key: string]: unknown };

/** Names of the columns that the plan reads of each stand-in. */
export function readColumns(plan: unknown, tables: ReadonlyMap<string, readonly Field[]>): Map<string, Set<string>> {
  const found = new Map([...tables.keys()].map((name) => [name, new Set<string>()]));
  visit(plan, undefined, (get) => {
    const name = String(get.name);
    const fields = tables.get(name);
    if (fields) for (const each of scanColumns(get, fields)) if (each) found.get(name)!.add(each.path[0]!);
  });
  return found;
}

/** Predicate by stand-in name; a name that the plan scans twice gets either filter, one that it lacks gets `true`. */
export function readPushdown(plan: unknown, tables: ReadonlyMap<string, readonly Field[]>): Map<string, Predicate> {
  const found = new Map<string, Predicate[]>();
  visit(plan, undefined, (get, filter) => {
    const name = String(get.name);
    const fields = tables.get(name);
    if (!fields) return;
    const columns = scanColumns(get, fields);
    const predicate = filter ? and((filter.expressions as Node[]).map((each) => read(each, columns))) : TRUE;
    found.set(name, [...(found.get(name) ?? []), predicate]);
  });
  return new Map([...tables.keys()].map((name) => [name, or(found.get(name) ?? [])]));
}

function visit(node: unknown, filter: Node | undefined, onGet: (get: Node, filter: Node | undefined) => void): void {
  if (Array.isArray(node)) return node.forEach((each) => visit(each, undefined, onGet));
  if (typeof node !== 'object' || node === null) return;
  const here = node as Node;
  if (here.type === 'LOGICAL_GET') onGet(here, filter);
  for (const [key, value] of Object.entries(here)) {
    const isDirectChild = here.type === 'LOGICAL_FILTER' && key === 'children' && Array.isArray(value) && value.length === 1;
    if (isDirectChild) visit(value[0], here, onGet);
    else visit(value, undefined, onGet);
  }
}

interface Column {
  path: ColumnPath;
  type: LogicalType;
}

/** The table's columns in the order in which the scan gives them. */
function scanColumns(get: Node, fields: readonly Field[]): (Column | undefined)[] {
  const names = get.names as string[];
  const indexes = get.column_indexes as { index: number; has_index?: boolean }[] | undefined;
  if (!indexes) return names.map((name) => column(fields, name));
  return indexes.map(({ index }) => column(fields, names[index] ?? ''));
}

function column(fields: readonly Field[], name: string): Column | undefined {
  const found = findField(fields, name);
  return found && { path: [found.name], type: found.type };
}

type Columns = readonly (Column | undefined)[];

function read(expression: Node, columns: Columns): Predicate {
  switch (expression.expression_class) {
    case 'BOUND_COMPARISON':
      return comparison(expression, columns);
    case 'BOUND_BETWEEN':
      return between(expression, columns);
    case 'BOUND_CONJUNCTION': {
      const args = (expression.children as Node[]).map((each) => read(each, columns));
      return expression.type === 'CONJUNCTION_AND' ? and(args) : or(args);
    }
    case 'BOUND_OPERATOR':
      return operator(expression, columns);
    case 'BOUND_FUNCTION':
      return textPrefix(expression, columns);
    default:
      return TRUE;
  }
}

const COMPARISONS: Record<string, Comparison> = {
  COMPARE_EQUAL: '=', COMPARE_NOTEQUAL: '!=', COMPARE_LESSTHAN: '<', COMPARE_LESSTHANOREQUALTO: '<=', COMPARE_GREATERTHAN: '>', COMPARE_GREATERTHANOREQUALTO: '>=',
};
const SWAPPED: Record<Comparison, Comparison> = { '=': '=', '!=': '!=', '<': '>', '<=': '>=', '>': '<', '>=': '<=' };

function comparison(node: Node, columns: Columns): Predicate {
  const operation = COMPARISONS[String(node.type)];
  if (!operation) return TRUE;
  const [left, right] = [node.left as Node, node.right as Node];
  return isConstant(right) ? compare(left, operation, right, columns) : isConstant(left) ? compare(right, SWAPPED[operation], left, columns) : TRUE;
}

function between(node: Node, columns: Columns): Predicate {
  const input = node.input as Node;
  return and([
    compare(input, node.lower_inclusive ? '>=' : '>', node.lower as Node, columns),
    compare(input, node.upper_inclusive ? '<=' : '<', node.upper as Node, columns),
  ]);
}

function compare(side: Node, operation: Comparison, constant: Node, columns: Columns): Predicate {
  const direct = target(side, columns);
  if (direct) {
    const value = constantValue(constant, direct.type);
    return value === undefined ? TRUE : { op: 'compare', column: direct.path, comparison: operation, value };
  }
  return compareDay(side, operation, constant, columns);
}

/** `CAST(time AS DATE) op day`, which is monotonic: the day's bounds take its place. */
function compareDay(side: Node, operation: Comparison, constant: Node, columns: Columns): Predicate {
  if (side.expression_class !== 'BOUND_CAST' || typeId(side.return_type) !== 'DATE') return TRUE;
  const inner = target(side.child as Node, columns);
  const day = constantValue(constant, { kind: 'date' });
  if (!inner || typeof day !== 'number' || (inner.type.kind !== 'timestamp' && inner.type.kind !== 'timestamptz')) return TRUE;
  const start = BigInt(day) * MICROS_PER_DAY;
  const end = start + MICROS_PER_DAY;
  const part = (comparison: Comparison, value: Value): Predicate => ({ op: 'compare', column: inner.path, comparison, value });
  switch (operation) {
    case '=':
      return and([part('>=', start), part('<', end)]);
    case '<':
      return part('<', start);
    case '<=':
      return part('<', end);
    case '>':
      return part('>=', end);
    case '>=':
      return part('>=', start);
    case '!=':
      return TRUE;
  }
}

function operator(node: Node, columns: Columns): Predicate {
  const [first, ...rest] = node.children as Node[];
  const column = first && target(first, columns);
  if (!column) return TRUE;
  switch (node.type) {
    case 'OPERATOR_IS_NULL':
      return { op: 'null', column: column.path };
    case 'OPERATOR_IS_NOT_NULL':
      return { op: 'not-null', column: column.path };
    case 'COMPARE_IN': {
      const values = rest.map((each) => (isConstant(each) ? constantValue(each, column.type) : undefined));
      return values.every((value) => value !== undefined) ? { op: 'in', column: column.path, values: values as Value[] } : TRUE;
    }
    default:
      return TRUE;
  }
}

/** `LIKE 'prefix%'`, which the optimizer may already have made a call of prefix. */
function textPrefix(node: Node, columns: Columns): Predicate {
  const [first, second] = (node.children as Node[] | undefined) ?? [];
  const column = first && target(first, columns);
  if (!column || column.type.kind !== 'string' || !second || !isConstant(second)) return TRUE;
  const text = constantValue(second, column.type);
  if (typeof text !== 'string') return TRUE;
  const name = String(node.name);
  if (['prefix', 'starts_with', '^@'].includes(name)) return { op: 'prefix', column: column.path, prefix: text };
  const fixed = name === '~~' ? /^[^%_\\]*/.exec(text)![0] : '';
  return fixed === '' ? TRUE : { op: 'prefix', column: column.path, prefix: fixed };
}

/** The column, or field of a struct column, that an expression is. */
function target(expression: Node, columns: Columns): Column | undefined {
  if (expression.expression_class === 'BOUND_REF') return columns[Number(expression.index ?? 0)];
  if (expression.expression_class !== 'BOUND_FUNCTION' || String(expression.name) !== 'struct_extract') return undefined;
  const [from, key] = expression.children as Node[];
  const outer = from && target(from, columns);
  const name = key && isConstant(key) ? (key.value as { value?: unknown }).value : undefined;
  if (outer?.type.kind !== 'struct' || typeof name !== 'string') return undefined;
  const inner = findField(outer.type.fields, name);
  return inner && { path: [...outer.path, inner.name], type: inner.type };
}

function isConstant(node: Node): boolean {
  return node.expression_class === 'BOUND_CONSTANT' && (node.value as { is_null?: boolean }).is_null === false;
}

function typeId(type: unknown): string {
  return String((type as { id?: string } | undefined)?.id ?? '');
}

const ENGINE_TYPES: Partial<Record<LogicalType['kind'], string>> = {
  boolean: 'BOOLEAN', byte: 'TINYINT', short: 'SMALLINT', int: 'INTEGER', long: 'BIGINT', float: 'FLOAT', double: 'DOUBLE', date: 'DATE',
  timestamp: 'TIMESTAMP', timestamptz: 'TIMESTAMP WITH TIME ZONE', string: 'VARCHAR', decimal: 'DECIMAL',
};

/** The constant as a value of the column's type; undefined when the types differ, for then the engine compares otherwise. */
function constantValue(node: Node, type: LogicalType): Value | undefined {
  const { type: from, value } = node.value as { type: unknown; value: unknown };
  if (typeId(from) !== ENGINE_TYPES[type.kind]) return undefined;
  switch (type.kind) {
    case 'boolean':
      return typeof value === 'boolean' ? value : undefined;
    case 'long':
    case 'timestamp':
    case 'timestamptz':
      return integer(value);
    case 'decimal': {
      const { width, scale } = (from as { type_info: { width: number; scale: number } }).type_info;
      // Wider decimals come as two halves; they are left to the engine.
      return width <= 18 && scale === type.scale ? integer(value) : undefined;
    }
    case 'string':
      return typeof value === 'string' ? value : undefined;
    case 'float':
      return typeof value === 'number' ? Math.fround(value) : undefined;
    default:
      return typeof value === 'number' ? value : undefined;
  }
}

function integer(value: unknown): bigint | undefined {
  return typeof value === 'bigint' || Number.isInteger(value) ? BigInt(value as number) : undefined;
}
