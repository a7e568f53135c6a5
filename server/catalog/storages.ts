import { LakeError } from '../../core/errors';
import type { PostgresSettings } from '../sources/postgres';
import type { S3Settings } from '../storage/s3-store';
import { DatabaseError, FOREIGN_KEY_VIOLATION, UNIQUE_VIOLATION, type Database, type Sql } from './database';
import { recordRevision } from './revisions';

export interface Storage {
  id: number;
  name: string;
  kind: 'folder' | 's3' | 'postgres';
  /** Absolute path on this machine, `s3://bucket/prefix`, or `postgres://host:port/database`. */
  location: string;
  /** Of an object store or a database. */
  settings: S3Settings | PostgresSettings | null;
  /** Sealed keys or password; null for those of the server's environment, and for folders. */
  secret: string | null;
}

export type NewStorage = Omit<Storage, 'id'>;

export async function listStorages(sql: Sql): Promise<Storage[]> {
  return sql.query<Storage>('SELECT id, name, kind, location, settings, secret FROM storage ORDER BY lower(name)');
}

export async function createStorage(database: Database, storage: NewStorage, who: string): Promise<Storage> {
  return database.transaction(async (sql) => {
    const [made] = await sql.query<{ id: number }>('INSERT INTO storage (name, kind, location, settings, secret) VALUES ($1, $2, $3, $4, $5) RETURNING id', [storage.name, storage.kind, storage.location, storage.settings && JSON.stringify(storage.settings), storage.secret]).catch((error: unknown) => {
      if (error instanceof DatabaseError && error.code === UNIQUE_VIOLATION) throw new LakeError('conflict', `There is a storage named "${storage.name}" already. Choose another name.`);
      throw error;
    });
    await recordRevision(sql, who, 'connect storage', storage.name, { kind: storage.kind, location: storage.location });
    return { ...storage, id: made!.id };
  });
}

/** Keeps other settings or keys; the revision says only that they changed. */
export async function changeStorage(database: Database, storage: Storage, action: string, who: string): Promise<void> {
  await database.transaction(async (sql) => {
    await sql.query('UPDATE storage SET settings = $2, secret = $3 WHERE id = $1', [storage.id, storage.settings && JSON.stringify(storage.settings), storage.secret]);
    await recordRevision(sql, who, action, storage.name);
  });
}

/** Fails with `conflict` while tables lie in it. What crawls saw of it is forgotten too. */
export async function deleteStorage(database: Database, storage: Storage, who: string): Promise<void> {
  await database.transaction(async (sql) => {
    for (const statement of [
      'UPDATE namespace SET storage_id = NULL, folder = NULL WHERE storage_id = $1', 'DELETE FROM finding WHERE storage_id = $1', 'DELETE FROM left_out WHERE storage_id = $1', 'DELETE FROM seen_file WHERE storage_id = $1', 'DELETE FROM folder_listing WHERE storage_id = $1', 'DELETE FROM storage WHERE id = $1',
    ]) {
      await sql.query(statement, [storage.id]).catch((error: unknown) => {
        if (error instanceof DatabaseError && error.code === FOREIGN_KEY_VIOLATION) throw new LakeError('conflict', `Tables of the catalog lie in ${storage.name}. Take them out of the catalog first.`);
        throw error;
      });
    }
    await recordRevision(sql, who, 'disconnect storage', storage.name, { location: storage.location });
  });
}
