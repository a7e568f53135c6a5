/** The tables of a SQLite database, each as JSON lines, since a column may hold values of any type there. Opened for reading only. */
import { createRequire } from 'node:module';
import { closeSync, copyFileSync, openSync, rmSync, writeSync } from 'node:fs';
import type { Database as OpenDatabase } from 'node-sqlite3-wasm';
import { LakeError } from '../../core/errors';
import { quoteName } from '../../core/sql/tokens';
import { readPart } from '../storage/read-part';
import type { MemberSink } from './member-sink';

// A CommonJS module whose names Node.js does not find.
const { Database } = createRequire(import.meta.url)('node-sqlite3-wasm') as typeof import('node-sqlite3-wasm');

const ROWS_AT_ONCE = 1000;

export async function tablesOf(source: string, sink: MemberSink): Promise<void> {
  if (Buffer.from(await readPart(source, { start: 0, end: 16 })).toString('latin1') !== 'SQLite format 3\0')
    throw new LakeError('bad-file', 'it is no SQLite database; other kinds of database file are not read');
  // The library makes a lock beside what it opens, and nothing of ours belongs beside people's files.
  const copy = `${sink.request.target}/source`;
  copyFileSync(source, copy);
  withoutWriteAheadLog(copy);
  const database = new Database(copy, { readOnly: true });
  try {
    const tables = database.all(
      "SELECT name FROM sqlite_schema WHERE type IN ('table', 'view') AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\' ORDER BY name",
    ) as { name: string }[];
    for (const { name } of tables) writeTable(database, name, sink);
    if (tables.length === 0) throw new LakeError('bad-file', 'it has no table');
  } finally {
    database.close();
    rmSync(copy, { force: true });
    rmSync(`${copy}.lock`, { recursive: true, force: true });
  }
}

/** A database that is written with a log ahead is opened like any other: the two versions at 18 and 19 say so ("Database File Format", 1.3). */
function withoutWriteAheadLog(file: string): void {
  const handle = openSync(file, 'r+');
  try {
    writeSync(handle, Buffer.from([1, 1]), 0, 2, 18);
  } finally {
    closeSync(handle);
  }
}

/** Bytes as base64; what JSON has no number for as text. */
function valueText(value: unknown): string {
  if (typeof value === 'bigint') return value.toString();
  if (value instanceof Uint8Array) return JSON.stringify(Buffer.from(value).toString('base64'));
  return typeof value === 'number' && !Number.isFinite(value)
    ? JSON.stringify(String(value))
    : JSON.stringify(value ?? null);
}

function writeTable(database: OpenDatabase, name: string, sink: MemberSink): void {
  const target = sink.next(`${name.replaceAll('/', '_')}.jsonl`);
  if (target === undefined) return;
  const file = openSync(target, 'w');
  const statement = database.prepare(`SELECT * FROM ${quoteName(name)}`);
  try {
    let lines: string[] = [];
    const flush = () => {
      const text = lines.join('');
      sink.count(Buffer.byteLength(text));
      writeSync(file, text);
      lines = [];
    };
    for (const row of statement.iterate()) {
      lines.push(
        `{${Object.entries(row)
          .map(([column, value]) => `${JSON.stringify(column)}:${valueText(value)}`)
          .join(',')}}\n`,
      );
      if (lines.length === ROWS_AT_ONCE) flush();
    }
    flush();
  } finally {
    statement.finalize();
    closeSync(file);
  }
}
