/**
 * Conditions and expressions that stand in a table's log. They are written in another dialect of SQL, so only what means
 * the same there and here is understood; anything else is refused, since a wrong guess would let wrong rows in.
 */
import { LakeError } from '../errors';
import type { SqlTree } from './statement';
import { wrappedExpression } from './whole-part';

type Node = { [key: string]: unknown };

const CLASSES = new Set(['COMPARISON', 'CONJUNCTION', 'CONSTANT', 'COLUMN_REF', 'OPERATOR', 'BETWEEN', 'CASE', 'CAST', 'FUNCTION']);
const OPERATORS = new Set(['+', '-', '*', '%']);

/** The expression in our SQL. Fails with `unsupported`, naming the rule, when it holds more than is understood. */
export async function readRule(name: string, sql: string, functions: ReadonlySet<string>, tree: SqlTree): Promise<string> {
  const refuse = (what: string): never => {
    throw new LakeError('unsupported', `The rule "${name}" (${sql.slice(0, 120)}) ${what}, which is not understood here. Nothing was written.`);
  };
  const ours = sql.replace(/`([^`]*)`/g, (_, quoted: string) => `"${quoted.replaceAll('"', '""')}"`);
  const parsed = (await tree.parse(`SELECT list_value(${ours}\n)`)) as { error?: boolean; statements?: { node?: Node }[] };
  const node = parsed.statements?.[0]?.node;
  const expression = node && (node.select_list as Node[]).length === 1 ? wrappedExpression(node) : undefined;
  if (parsed.error || parsed.statements?.length !== 1 || !expression) refuse('cannot be parsed');
  visit(expression, refuse, functions);
  return ours;
}

function visit(value: unknown, refuse: (what: string) => never, functions: ReadonlySet<string>): void {
  if (Array.isArray(value)) return value.forEach((each) => visit(each, refuse, functions));
  if (typeof value !== 'object' || value === null) return;
  const node = value as Node;
  if (typeof node.class === 'string') {
    if (!CLASSES.has(node.class)) refuse(`holds ${node.class.toLowerCase().replaceAll('_', ' ')}`);
    if (node.class === 'FUNCTION') {
      const name = String(node.function_name).toLowerCase();
      if (!OPERATORS.has(name) && !functions.has(name)) refuse(`calls ${name}`);
    }
  }
  // The value of a constant holds no part of the tree.
  if (node.class !== 'CONSTANT') for (const each of Object.values(node)) visit(each, refuse, functions);
}
