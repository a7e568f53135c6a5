/**
 * The catalog process: PGlite in a process of its own, since it blocks while it works. Started with `create` it only
 * makes the database and ends, because the process that makes one stays twice as heavy.
 */
import { PGlite } from '@electric-sql/pglite';
import type { CatalogAnswer, CatalogAsk } from './messages';

process.on('SIGINT', () => undefined);

const [mode, folder] = process.argv.slice(2);
const database = new PGlite(folder!);
try {
  await database.waitReady;
} catch (error) {
  process.send?.({ id: 0, failure: { message: (error as Error).message } });
  process.exit(1);
}
if (mode === 'create') {
  await database.close();
  process.exit(0);
}

process.on('disconnect', () => void database.close().finally(() => process.exit(0)));
process.on('message', (ask: CatalogAsk) => void answer(ask).then((reply) => process.connected && process.send?.(reply, undefined, {}, () => undefined)));
process.send?.({ id: 0, rows: [], affected: 0 } satisfies CatalogAnswer);

async function answer(ask: CatalogAsk): Promise<CatalogAnswer> {
  try {
    if ('script' in ask) {
      await database.exec(ask.script);
      return { id: ask.id, rows: [], affected: 0 };
    }
    const result = await database.query<Record<string, unknown>>(ask.sql, ask.params);
    return { id: ask.id, rows: result.rows, affected: result.affectedRows ?? 0 };
  } catch (error) {
    const { message, code, constraint } = error as { message: string; code?: string; constraint?: string };
    return { id: ask.id, failure: { message, ...(code ? { code } : {}), ...(constraint ? { constraint } : {}) } };
  }
}
