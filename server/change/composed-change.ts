/** A statement that changes rows as one query that holds all its parts: for the gate on user SQL, for names and types, and for pruning. */
import { LakeError } from '../../core/errors';
import type { Assignment, ChangeStatement, MergeClause, Range } from '../../core/sql/change';
import { Composed } from '../../core/sql/composed';

export interface ComposedChange {
  query: Composed;
  /** Where the target's name stands in the query; absent when no row of it is looked at. */
  target?: Range;
  /** Name by which the parts call the target's rows. */
  alias: string;
  /** Rows that go or change. */
  where?: Range;
  /** Their values' places are in the composed query. */
  set: Assignment[];
  /** The query whose rows come in, or for MERGE what stands after USING. */
  source?: Range;
  on?: Range;
  clauses: MergeClause[];
}

export function composeChange(sql: string, statement: ChangeStatement): ComposedChange {
  const query = new Composed(sql);
  const { target } = statement;
  const alias = target.alias ?? target.name.at(-1)!;
  const composed: ComposedChange = { query, alias, set: [], clauses: [] };
  const from = (): Range => {
    query.words(' FROM ');
    const range = query.part({ start: target.start, end: target.end }, 'name');
    query.words(` AS "${alias.replaceAll('"', '""')}"`);
    return range;
  };
  switch (statement.kind) {
    case 'insert':
      query.words('SELECT * FROM (');
      composed.source = query.part(statement.source, 'query');
      query.words(') AS __new');
      return composed;
    case 'replace': {
      query.words('SELECT ');
      if (statement.what.kind === 'rows') {
        query.words('(SELECT count(*)');
        composed.target = from();
        query.words(' WHERE (');
        composed.where = query.part(statement.what.where, 'expression');
        query.words(')), ');
      }
      query.words('* FROM (');
      composed.source = query.part(statement.source, 'query');
      query.words(') AS __new');
      return composed;
    }
    case 'update':
      query.words('SELECT ');
      composed.set = statement.set.map(({ column, value }) => ({ column, value: list(query, value) }));
      query.words('1');
      composed.target = from();
      if (statement.where) composed.where = condition(query, statement.where);
      return composed;
    case 'delete':
      query.words('SELECT 1');
      composed.target = from();
      if (statement.where) composed.where = condition(query, statement.where);
      return composed;
    case 'merge':
      return composeMerge(composed, statement, from);
  }
}

function composeMerge(composed: ComposedChange, statement: Extract<ChangeStatement, { kind: 'merge' }>, from: () => Range): ComposedChange {
  const { query } = composed;
  query.words('SELECT ');
  composed.clauses = statement.clauses.map((clause): MergeClause => {
    const condition = clause.condition && list(query, clause.condition);
    const { action } = clause;
    const made = action.kind === 'delete' ? action
      : action.kind === 'insert' ? { ...action, values: action.values.map((value) => list(query, value)) }
        : { ...action, set: action.set === 'all' ? action.set : action.set.map(({ column, value }) => ({ column, value: list(query, value) })) };
    return { when: clause.when, start: clause.start, action: made, ...(condition ? { condition } : {}) };
  });
  query.words('1');
  composed.target = from();
  query.words(' JOIN ');
  composed.source = query.part(statement.source, 'source');
  query.words(' ON (');
  composed.on = query.part(statement.on, 'expression');
  query.words(')');
  if (statement.sourceName.toLowerCase() === composed.alias.toLowerCase()) {
    throw new LakeError('bad-request', `What is merged from and what it is merged into are both called ${composed.alias}. Give one of them another name: USING … AS source.`, { position: statement.source.start });
  }
  return composed;
}

function list(query: Composed, range: Range): Range {
  query.words('(');
  const placed = query.part(range, 'expression');
  query.words('), ');
  return placed;
}

function condition(query: Composed, range: Range): Range {
  query.words(' WHERE (');
  const placed = query.part(range, 'expression');
  query.words(')');
  return placed;
}
