import { LakeError } from '../../core/errors';
import { DatabaseError, UNIQUE_VIOLATION, type Database, type Sql } from './database';
import { recordRevision } from './revisions';

export interface Storage {
  id: number;
  name: string;
  kind: 'folder';
  /** Absolute path on this machine. */
  location: string;
}

export async function listStorages(sql: Sql): Promise<Storage[]> {
  return sql.query<Storage>('SELECT id, name, kind, location FROM storage ORDER BY lower(name)');
}

export async function createStorage(database: Database, storage: Omit<Storage, 'id'>, who: string): Promise<Storage> {
  return database.transaction(async (sql) => {
    const [made] = await sql.query<{ id: number }>('INSERT INTO storage (name, kind, location) VALUES ($1, $2, $3) RETURNING id', [storage.name, storage.kind, storage.location]).catch((error: unknown) => {
      if (error instanceof DatabaseError && error.code === UNIQUE_VIOLATION) throw new LakeError('conflict', `There is a storage named "${storage.name}" already. Choose another name.`);
      throw error;
    });
    await recordRevision(sql, who, 'connect storage', storage.name, { kind: storage.kind });
    return { ...storage, id: made!.id };
  });
}
