/** Statements that were read lately, by their text: what is planned while it is typed is run next, and views are read by every query of theirs. */
import { readStatement, type SqlTree, type Statement } from '../../core/sql/statement';

const MOST = 500;

export class Statements {
  readonly #kept = new Map<string, Promise<Statement>>();

  constructor(readonly tree: SqlTree) {}

  read(sql: string): Promise<Statement> {
    const kept = this.#kept.get(sql);
    if (kept) {
      // Used last, so forgotten last.
      this.#kept.delete(sql);
      this.#kept.set(sql, kept);
      return kept;
    }
    const statement = readStatement(sql, this.tree);
    this.#kept.set(sql, statement);
    statement.catch(() => this.#kept.delete(sql));
    if (this.#kept.size > MOST) this.#kept.delete(this.#kept.keys().next().value!);
    return statement;
  }
}
