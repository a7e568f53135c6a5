/** A catalog database in the test's own process, with the real migrations. */
import { readdirSync, readFileSync } from 'node:fs';
import path from 'node:path';
import { PGlite } from '@electric-sql/pglite';
import { DatabaseError, inTransaction, type Database, type Sql } from '../catalog/database';
import { projectRoot } from '../program-files';

/** As the real one fails. */
function asDatabaseError(error: unknown): never {
  const { message, code } = error as { message: string; code?: string };
  throw new DatabaseError(message, code);
}

export async function testDatabase(): Promise<Database> {
  const lite = new PGlite();
  const folder = path.join(projectRoot, 'server/catalog/migrations');
  for (const name of readdirSync(folder).sort()) await lite.exec(readFileSync(path.join(folder, name), 'utf8'));
  const query: Sql['query'] = async <T>(text: string, params: unknown[] = []) => (await lite.query<T>(text, params).catch(asDatabaseError)).rows;
  let turn: Promise<unknown> = Promise.resolve();
  const database = {
    query, onChange: () => undefined as void, noteChange: () => database.onChange(),
    transaction: <T>(work: (inside: Sql) => Promise<T>) => {
      const next = turn.then(() => inTransaction(query, () => database.onChange(), work));
      turn = next.catch(() => undefined);
      return next;
    },
  };
  return database as unknown as Database;
}
