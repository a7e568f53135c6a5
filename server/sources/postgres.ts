/** PostgreSQL, and what speaks its protocol, through its own client library. Each reading has a connection of its own, read only. */
import { Client } from 'pg';
import { LakeError } from '../../core/errors';
import { field, type Field, type LogicalType } from '../../core/schema/types';
import { quoteName } from '../../core/sql/tokens';
import type { SourceDriver, SourceObject, SourceRead, SourceWrite, SourceWritten } from './driver';
import { createStatement, insertStatement, selectStatement, type Statement } from './postgres-sql';

export interface PostgresSettings {
  host: string;
  port: number;
  database: string;
  user: string;
  ssl: boolean;
}

const CONNECT_MS = 8000;
/** Rows fetched in one step. */
const BATCH = 5000;

/** `relkind` of the system catalog. */
const KINDS: Record<string, SourceObject['kind']> = { r: 'table', v: 'view', m: 'materialized view', f: 'foreign table', p: 'partitioned table' };

export class PostgresDriver implements SourceDriver {
  #columns: { at: number; found: Promise<Map<string, Field[]>> } | undefined;

  constructor(
    readonly settings: PostgresSettings,
    readonly password: () => string,
  ) {}

  inDatabase(database: string): PostgresDriver {
    return new PostgresDriver({ ...this.settings, database }, this.password);
  }

  async objects(): Promise<SourceObject[]> {
    const rows = await this.#ask<{ schema: string; name: string; kind: string; rows: string; bytes: string }>(`
      SELECT n.nspname AS schema, c.relname AS name, c.relkind AS kind, c.reltuples::bigint::text AS rows, CASE WHEN c.relkind IN ('r', 'm') THEN pg_relation_size(c.oid) ELSE 0 END::text AS bytes
      FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
      WHERE c.relkind IN ('r', 'v', 'm', 'f', 'p') AND n.nspname NOT IN ('pg_catalog', 'information_schema') AND n.nspname NOT LIKE 'pg_toast%' AND NOT c.relispartition AND has_table_privilege(c.oid, 'SELECT')
      ORDER BY 1, 2`);
    return rows.map(({ schema, name, kind, rows: estimate, bytes }) => ({ schema, name, kind: KINDS[kind]!, rows: Number(estimate) < 0 ? null : Number(estimate), bytes: Number(bytes) }));
  }

  /** Asked for again after a while, so that a burst of questions is one. */
  columns(): Promise<Map<string, Field[]>> {
    if (this.#columns && Date.now() - this.#columns.at < COLUMNS_KEPT_MS) return this.#columns.found;
    const found = this.#readColumns();
    this.#columns = { at: Date.now(), found };
    found.catch(() => (this.#columns = undefined));
    return found;
  }

  async #readColumns(): Promise<Map<string, Field[]>> {
    const rows = await this.#ask<{ key: string; name: string; type: string; element: string | null; modifier: number; required: boolean; comment: string | null }>(`
      SELECT n.nspname || '/' || c.relname AS key, a.attname AS name, t.typname AS type, e.typname AS element, a.atttypmod AS modifier, a.attnotnull AS required, col_description(c.oid, a.attnum) AS comment
      FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace
      JOIN pg_type b ON b.oid = a.atttypid JOIN pg_type t ON t.oid = CASE WHEN b.typtype = 'd' THEN b.typbasetype ELSE b.oid END LEFT JOIN pg_type e ON e.oid = t.typelem AND t.typcategory = 'A'
      WHERE a.attnum > 0 AND NOT a.attisdropped AND c.relkind IN ('r', 'v', 'm', 'f', 'p') AND n.nspname NOT IN ('pg_catalog', 'information_schema') ORDER BY c.oid, a.attnum`);
    const columns = new Map<string, Field[]>();
    for (const row of rows) {
      const type = typeOf(row.element ?? row.type, row.modifier);
      const made = field(row.name, row.element === null ? type : { kind: 'list', element: field('element', type) }, { required: row.required, ...(row.comment ? { comment: row.comment } : {}) });
      columns.set(row.key, [...(columns.get(row.key) ?? []), made]);
    }
    return columns;
  }

  statementOf(read: SourceRead): string {
    const { text, values } = selectStatement(read, read.fields);
    return values.reduceRight((sql, value, index) => sql.replaceAll(`$${index + 1}::`, `'${value.replaceAll("'", "''")}'::`), text);
  }

  async count({ schema, name }: { schema: string; name: string }): Promise<number> {
    const [row] = await this.#ask<{ n: string }>(`SELECT count(*)::text AS n FROM ${quoteName(schema)}.${quoteName(name)}`);
    return Number(row!.n);
  }

  async write({ schema, name, fields, rows, existing, onRows = () => undefined, signal }: SourceWrite): Promise<SourceWritten> {
    const table = `${quoteName(schema)}.${quoteName(name)}`;
    const client = await this.#connect();
    const count = async () => Number((await client.query<{ n: string }>(`SELECT count(*)::text AS n FROM ${table}`)).rows[0]!.n);
    try {
      await client.query('BEGIN');
      const isMade = (await client.query<{ there: boolean }>('SELECT to_regclass($1) IS NULL AS there', [table])).rows[0]!.there;
      if (isMade) await client.query(createStatement(schema, name, fields));
      const rowsBefore = isMade ? 0 : await count();
      if (rowsBefore > 0 && existing === 'refuse') throw new LakeError('conflict', `${schema}.${name} holds ${rowsBefore} rows already. Nothing was written.`, { table: `${schema}.${name}`, hint: "Say existing = 'add' to write beside them, or existing = 'clear' to remove them first." });
      if (existing === 'clear' && !isMade) await client.query(`DELETE FROM ${table}`);
      let written = 0;
      for await (const batch of batches(rows, BATCH)) {
        if (signal?.aborted) throw new LakeError('cancelled', 'Stopped. Nothing was written.');
        written += (await client.query(insertStatement(schema, name, fields), [`[${batch.join(',')}]`])).rowCount ?? 0;
        onRows(written);
      }
      const rowsAfter = await count();
      await client.query('COMMIT');
      this.#columns = undefined;
      return { rowsBefore, rowsAfter, isMade };
    } catch (error) {
      await client.query('ROLLBACK').catch(() => undefined);
      throw this.#explained(error);
    } finally {
      await client.end().catch(() => undefined);
    }
  }

  async *rows(read: SourceRead): AsyncGenerator<Record<string, unknown>[]> {
    const all = (await this.columns()).get(`${read.schema}/${read.name}`) ?? [];
    const statement = selectStatement(read, all);
    const client = await this.#connect();
    try {
      await client.query('BEGIN READ ONLY');
      await run(client, { text: `DECLARE reading NO SCROLL CURSOR FOR ${statement.text}`, values: statement.values });
      for (;;) {
        const { rows } = await client.query<Record<string, string | null>>(`FETCH ${BATCH} FROM reading`);
        if (rows.length === 0) return;
        yield rows.map((row) => asJson(row, read.fields));
      }
    } catch (error) {
      throw this.#explained(error);
    } finally {
      await client.end().catch(() => undefined);
    }
  }

  async #ask<T extends object>(text: string): Promise<T[]> {
    const client = await this.#connect();
    try {
      return (await client.query<T>(text)).rows;
    } catch (error) {
      throw this.#explained(error);
    } finally {
      await client.end().catch(() => undefined);
    }
  }

  async #connect(): Promise<Client> {
    const { ssl, ...place } = this.settings;
    const client = new Client({ ...place, password: this.password(), connectionTimeoutMillis: CONNECT_MS, ssl: ssl ? { rejectUnauthorized: true } : false, application_name: 'kind-harbor' });
    client.on('error', () => undefined); // told by the query that it cuts off
    try {
      await client.connect();
      await client.query("SET TIME ZONE 'UTC'");
      return client;
    } catch (error) {
      await client.end().catch(() => undefined);
      throw this.#explained(error);
    }
  }

  #explained(error: unknown): unknown {
    const { code = '', message = '' } = error as { code?: string; message?: string };
    const { host, port, user, database } = this.settings;
    const place = `${host}:${port}`;
    if (code === '28P01' || code === '28000') return new LakeError('refused', `The database at ${place} does not accept the user ${user} with this password.`, { hint: 'Give the storage its password again.' });
    if (code === '3D000') return new LakeError('not-found', `There is no database "${database}" at ${place}.`);
    if (code === '42501') return new LakeError('refused', `The user ${user} may not do this: ${message}. The right to it is missing.`);
    if (/^E[A-Z]+$/.test(code) || /timeout|terminated/i.test(message)) return new LakeError('limit', `The database at ${place} does not answer (${code || message}).`, { hint: 'Check the address and that the database is up.' });
    if (/^[0-9A-Z]{5}$/.test(code)) return new LakeError('bad-request', `The database at ${place} says: ${message}.`);
    return error;
  }
}

const COLUMNS_KEPT_MS = 10_000;

async function* batches<T>(all: AsyncIterable<T>, size: number): AsyncGenerator<T[]> {
  let batch: T[] = [];
  for await (const each of all) {
    batch.push(each);
    if (batch.length < size) continue;
    yield batch;
    batch = [];
  }
  if (batch.length > 0) yield batch;
}

function run(client: Client, { text, values }: Statement): Promise<unknown> {
  return client.query(text, values);
}

const TYPES: Record<string, LogicalType> = {
  bool: { kind: 'boolean' }, int2: { kind: 'short' }, int4: { kind: 'int' }, int8: { kind: 'long' }, oid: { kind: 'long' }, float4: { kind: 'float' }, float8: { kind: 'double' }, date: { kind: 'date' }, time: { kind: 'time' },
  timestamp: { kind: 'timestamp' }, timestamptz: { kind: 'timestamptz' }, uuid: { kind: 'uuid' }, bytea: { kind: 'binary' },
};

/** Types without an equal here are read as the text that the database shows. */
function typeOf(name: string, modifier: number): LogicalType {
  const plain = name.replace(/^_/, '');
  if (plain !== 'numeric') return TYPES[plain] ?? { kind: 'string' };
  // Precision and scale stand in the modifier, four below; without them every digit must find room.
  if (modifier < 4) return { kind: 'decimal', precision: 38, scale: 10 };
  const precision = ((modifier - 4) >> 16) & 0xffff;
  return precision <= 38 ? { kind: 'decimal', precision, scale: (modifier - 4) & 0xffff } : { kind: 'string' };
}

function asJson(row: Record<string, string | null>, fields: readonly Field[]): Record<string, unknown> {
  return Object.fromEntries(fields.map(({ name, type }) => {
    const text = row[name] ?? null;
    if (text === null) return [name, null];
    if (type.kind === 'list') return [name, JSON.parse(text) as unknown];
    return [name, type.kind === 'binary' ? text.replace(/../g, (byte) => `\\x${byte.toUpperCase()}`) : text];
  }));
}

