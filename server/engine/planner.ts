/** Parsing and planning in an instance of its own, over stand-in tables that have columns and sizes but no rows. */
import { DuckDBTableFunction, type DuckDBConnection, type DuckDBType } from '@duckdb/node-api';
import { parseJson, withQuotedNonNumbers } from '../../core/json';
import type { PlanTable } from './messages';
import { disabledOptimizers } from './optimizer-faults';

const STAND_INS = 64;

/**
 * Long IN lists would become joins, which hide the values from us. After "column_lifetime" a plan with nested subqueries
 * cannot be written out (engine 1.5.5: "Failed to bind column reference … inequal types").
 */
const NOT_FOR_PLANS = ['in_clause', 'column_lifetime'];

export class Planner {
  readonly #tables = new Map<string, { columns: { name: string; type: DuckDBType }[]; rows: number }>();
  readonly #types = new Map<string, DuckDBType>();
  #queue: Promise<unknown> = Promise.resolve();
  #disabled = '';

  constructor(readonly connection: DuckDBConnection) {
    for (let i = 0; i < STAND_INS; i++) {
      const name = `__r${i}`;
      connection.registerTableFunction(DuckDBTableFunction.create({
        name,
        supportsProjectionPushdown: true,
        bindFunction: (info) => {
          const table = this.#tables.get(name);
          if (!table) return info.setError(`${name} is not in use`);
          for (const column of table.columns) info.addResultColumn(column.name, column.type);
          info.setCardinality(table.rows, true);
        },
        initFunction: () => undefined,
        mainFunction: (_info, chunk) => {
          chunk.rowCount = 0;
        },
      }));
    }
  }

  async start(): Promise<void> {
    await this.#disable(NOT_FOR_PLANS.join(','));
  }

  async #disable(optimizers: string): Promise<void> {
    if (optimizers === this.#disabled) return;
    await this.connection.run(`SET disabled_optimizers = '${optimizers}'`);
    this.#disabled = optimizers;
  }

  parse(sql: string): Promise<unknown> {
    return this.#exclusive(() => this.#json('SELECT json_serialize_sql($1::VARCHAR, skip_null := true, skip_empty := true)', sql));
  }

  /** At most 64 stand-ins in one query. Without `optimize` names and types are held against the tables, and no more. */
  plan(sql: string, tables: readonly PlanTable[], optimize = true): Promise<unknown> {
    if (tables.length > STAND_INS) throw new Error(`A query may name at most ${STAND_INS} tables; this one names ${tables.length}.`);
    return this.#exclusive(async () => {
      this.#tables.clear();
      for (const table of tables) {
        const columns = await Promise.all(table.columns.map(async ({ name, type }) => ({ name, type: await this.#type(type) })));
        this.#tables.set(table.name, { columns, rows: table.rows });
      }
      await this.#disable(disabledOptimizers(sql, NOT_FOR_PLANS));
      return this.#json('SELECT json_serialize_plan($1::VARCHAR, skip_null := true, skip_empty := true, optimize := $2::BOOLEAN)', sql, optimize);
    });
  }

  async #json(sql: string, ...values: (string | boolean)[]): Promise<unknown> {
    const reader = await this.connection.runAndReadAll(sql, values);
    return parseJson(withQuotedNonNumbers(reader.getRows()[0]![0] as string));
  }

  /** The engine's type object for a type name; each is asked for once. */
  async #type(name: string): Promise<DuckDBType> {
    const known = this.#types.get(name);
    if (known) return known;
    const type = (await this.connection.run(`SELECT NULL::${name} WHERE false`)).columnType(0);
    this.#types.set(name, type);
    return type;
  }

  /** The stand-ins are shared, so plans are made one at a time; each takes a millisecond or two. */
  #exclusive<T>(work: () => Promise<T>): Promise<T> {
    const next = this.#queue.then(work, work);
    this.#queue = next.catch(() => undefined);
    return next;
  }
}
