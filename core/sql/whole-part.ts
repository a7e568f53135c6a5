/**
 * Whether a part of a statement is whole in itself as the engine's parser sees it. Parts are put together again in other
 * orders, so none may begin a string, a comment or a parenthesis that another ends, however the text is split by us.
 */
import { LakeError } from '../errors';
import type { SqlTree } from './statement';
import { blankTimeTravel } from './time-travel';

/** A value or condition; a query; or what may stand after FROM. */
export type PartKind = 'expression' | 'query' | 'source';

type Node = { [key: string]: unknown };

/** The one expression that was wrapped. */
export function wrappedExpression(node: Node): Node | undefined {
  const [call] = node.select_list as Node[];
  const children = (call?.children as Node[] | undefined) ?? [];
  return call?.class === 'FUNCTION' && call.function_name === 'list_value' && children.length === 1 ? children[0] : undefined;
}

const WRAPPED: Record<PartKind, (text: string) => string> = {
  // In a call, so that a parenthesis of the text cannot close ours and open another.
  expression: (text) => `SELECT list_value(${text}\n)`,
  query: (text) => `SELECT * FROM (${text}\n) AS q`,
  source: (text) => `SELECT * FROM ${text}\n`,
};
const FROM: Record<PartKind, ReadonlySet<string>> = { expression: new Set(['EMPTY']), query: new Set(['SUBQUERY']), source: new Set(['SUBQUERY', 'BASE_TABLE', 'TABLE_FUNCTION']) };
/** What the tree of the wrapping itself has, and nothing more. */
const KEYS = new Set(['type', 'select_list', 'from_table', 'aggregate_handling']);

/** Fails naming the part when it is not. `position`: where it begins in the user's text. */
export async function checkWhole(kind: PartKind, text: string, position: number, tree: SqlTree): Promise<void> {
  const parsed = (await tree.parse(WRAPPED[kind](blankTimeTravel(text).sql))) as { error?: boolean; statements?: { node?: Node }[] };
  // Mistakes inside of it are told better by the whole statement.
  const node = parsed.statements?.[0]?.node;
  const isWhole = !parsed.error && parsed.statements?.length === 1 && node?.type === 'SELECT_NODE' && Object.keys(node).every((key) => KEYS.has(key))
    && (node.select_list as unknown[]).length === 1 && (kind !== 'expression' || wrappedExpression(node) !== undefined) && FROM[kind].has(String((node.from_table as Node).type));
  if (isWhole) return;
  throw new LakeError('bad-request', `"${text.length > 60 ? `${text.slice(0, 60)}…` : text}" is no whole ${kind === 'expression' ? 'value or condition' : kind === 'query' ? 'query' : 'table or query with a name'}.`, { position });
}
