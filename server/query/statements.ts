/**
 * What was parsed and planned lately, by text: what is planned while it is typed is run next, and a view is parsed by
 * every query of it. Both depend on nothing but what they are keyed by.
 */
import { keepPromise, Lru } from '../../core/lru';
import { readStatement, type Statement } from '../../core/sql/statement';
import type { EngineCalls } from '../engine/engine';
import type { PlanTable } from '../engine/messages';

const MOST = 500;

export class Statements {
  readonly #statements = new Lru<Promise<Statement>>(MOST);
  readonly #plans = new Lru<Promise<unknown>>(MOST);
  readonly #bound = new Lru<Promise<unknown>>(MOST);

  constructor(readonly engine: EngineCalls) {}

  read(sql: string): Promise<Statement> {
    return keepPromise(this.#statements, sql, () => readStatement(sql, this.engine));
  }

  /** The engine's optimized plan over stand-in tables. */
  plan(sql: string, tables: PlanTable[]): Promise<unknown> {
    return keepPromise(this.#plans, `${sql}\0${JSON.stringify(tables)}`, () => this.engine.call('plan', { sql, tables }));
  }

  /** The plan as it is before the optimizer: names and types held against the tables. */
  bind(sql: string, tables: PlanTable[]): Promise<unknown> {
    return keepPromise(this.#bound, `${sql}\0${JSON.stringify(tables)}`, () => this.engine.call('plan', { sql, tables, optimize: false }));
  }
}
