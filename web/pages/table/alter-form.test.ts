import { expect, it } from 'vitest';
import { readDefinition } from '../../../core/sql/define';
import { alterSql, CHANGES, emptyAlter, type AlterForm } from './alter-form';

it.each<[Partial<AlterForm>, string]>([
  [{ kind: 'add', column: 'place.lat', type: 'double', text: "it's", after: 'first' }, "ADD COLUMN place.lat double COMMENT 'it''s' FIRST"],
  [{ kind: 'rename', column: 'odd name', text: 'first' }, 'RENAME COLUMN "odd name" TO "first"'],
  [{ kind: 'widen', column: 'n', type: 'bigint' }, 'ALTER COLUMN n TYPE bigint'],
  [{ kind: 'optional', column: 'n' }, 'ALTER COLUMN n DROP NOT NULL'],
  [{ kind: 'comment', column: 'n' }, 'ALTER COLUMN n DROP COMMENT'],
  [{ kind: 'move', column: 'n', after: 'site' }, 'ALTER COLUMN n AFTER site'],
  [{ kind: 'drop', column: 'n' }, 'DROP COLUMN n'],
  [{ kind: 'key', text: 'site, place.lat' }, 'SET KEY (site, place.lat)'],
  [{ kind: 'divide', column: 'id', transform: 'bucket(16)' }, 'ADD PARTITION FIELD bucket(16, id)'],
  [{ kind: 'divide', column: 'at', transform: 'day' }, 'ADD PARTITION FIELD day(at)'],
  [{ kind: 'undivide', column: 'site' }, 'DROP PARTITION FIELD site'],
  [{ kind: 'order', text: 'site' }, 'SET ORDER BY (site)'],
  [{ kind: 'set', column: 'write.delete.mode', text: 'merge-on-read' }, "SET PROPERTIES (write.delete.mode = 'merge-on-read')"],
])('%j is a statement that is understood', (form, wanted) => {
  const sql = alterSql('refined.t', { ...emptyAlter(), ...form });
  expect(sql).toBe(`ALTER TABLE refined.t ${wanted}`);
  expect(readDefinition(sql!).kind).toBe('alter-table');
});

it.each(CHANGES.map(({ value }) => value))('%s is no statement while nothing is said', (kind) => expect(alterSql('refined.t', { ...emptyAlter(), kind })).toBeUndefined());
