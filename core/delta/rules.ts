/** Rules that new rows must meet (Delta protocol, "Column Invariants", "CHECK Constraints", "Generated Columns", "Default Columns"). */
import { LakeError } from '../errors';
import type { Metadata } from './actions';
import { schemaJson, type FieldJson } from './schema';

export interface Condition {
  name: string;
  /** SQL over the table's columns, of which only a small part is understood (`checkRuleSql`). */
  sql: string;
}

export interface Rules {
  /** Columns, by their dotted names, that must not be null. */
  required: string[];
  conditions: Condition[];
  /** Columns that follow from others. */
  generated: { column: string; sql: string }[];
  /** What a new row has in a column that is not given. */
  defaults: { column: string; sql: string }[];
}

export function rulesOf({ schemaString, configuration }: Pick<Metadata, 'schemaString' | 'configuration'>, table: string): Rules {
  const rules: Rules = { required: [], conditions: [], generated: [], defaults: [] };
  const visit = (fields: readonly FieldJson[], prefix: string): void => {
    for (const each of fields) {
      const name = `${prefix}${each.name}`;
      if (!each.nullable) rules.required.push(name);
      const invariant = each.metadata?.['delta.invariants'];
      if (typeof invariant === 'string') rules.conditions.push({ name: `invariant of ${name}`, sql: invariantSql(invariant, table) });
      const generation = each.metadata?.['delta.generationExpression'];
      if (typeof generation === 'string') rules.generated.push({ column: name, sql: generation });
      const given = each.metadata?.CURRENT_DEFAULT;
      if (typeof given === 'string') rules.defaults.push({ column: name, sql: given });
      if (typeof each.type === 'object' && each.type.type === 'struct') visit(each.type.fields, `${name}.`);
    }
  };
  visit(schemaJson(schemaString, table).fields, '');
  for (const [key, sql] of Object.entries(configuration)) if (key.startsWith('delta.constraints.')) rules.conditions.push({ name: key.slice('delta.constraints.'.length), sql });
  return rules;
}

function invariantSql(text: string, table: string): string {
  try {
    const { expression } = JSON.parse(text) as { expression?: { expression?: unknown } };
    if (typeof expression?.expression === 'string') return expression.expression;
  } catch {
    // reported below
  }
  throw new LakeError('unsupported', `${table} has a column invariant that cannot be read: ${text.slice(0, 80)}. Nothing was written.`, { table });
}

/**
 * Functions that mean the same in the dialect that rules are written in and in ours. Anything beyond them, and beyond
 * comparisons, arithmetic, logic, CASE, casts and constants, is refused instead of guessed.
 */
export const RULE_FUNCTIONS: ReadonlySet<string> = new Set([
  'abs', 'ceil', 'coalesce', 'concat', 'day', 'floor', 'hour', 'length', 'lower', 'ltrim', 'minute', 'month', 'quarter', 'replace', 'round', 'rtrim', 'second', 'trim', 'upper', 'year',
]);
