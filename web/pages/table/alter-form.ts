/** One change of a table's definition as a form holds it, as SQL. */
import { nameSql } from '../../../core/sql/table-sql';
import { quoteText } from '../../../core/sql/tokens';

export const CHANGES = [
  { value: 'add', words: 'add a column' }, { value: 'rename', words: 'rename a column' }, { value: 'widen', words: 'give a column a wider type' }, { value: 'optional', words: 'let a column be null' },
  { value: 'comment', words: 'say what a column is' }, { value: 'move', words: 'move a column' }, { value: 'drop', words: 'drop a column' }, { value: 'key', words: 'say which columns are the key' },
  { value: 'divide', words: 'divide rows by more' }, { value: 'undivide', words: 'divide rows by less' }, { value: 'order', words: 'sort rows in files' }, { value: 'set', words: 'set a property' },
] as const;
export type ChangeKind = (typeof CHANGES)[number]['value'];
/** Of Iceberg tables alone. */
const ICEBERG_ONLY: readonly ChangeKind[] = ['divide', 'undivide', 'order'];

export interface AlterForm {
  kind: ChangeKind;
  /** The column that is changed; of `add` the new one's name, with dots inside structs. */
  column: string;
  type: string;
  /** A new name, a comment, columns with commas, a property's value. */
  text: string;
  /** Where a column goes: `first`, the name of the one before it, or nothing. */
  after: string;
  /** `day`, `bucket(16)`; nothing for values as they are. */
  transform: string;
}

export function changesOf(format: string | null): readonly { value: ChangeKind; words: string }[] {
  return CHANGES.filter(({ value }) => format === 'iceberg' || !ICEBERG_ONLY.includes(value));
}

export function emptyAlter(): AlterForm {
  return { kind: 'add', column: '', type: 'varchar', text: '', after: '', transform: '' };
}

/** `table`: as SQL. Undefined while something is missing. */
export function alterSql(table: string, { kind, column, type, text, after, transform }: AlterForm): string | undefined {
  const path = column.trim().split('.').map(nameSql).join('.');
  const named = column.trim() !== '';
  const list = text.split(',').map((each) => each.trim()).filter((each) => each !== '').map((each) => each.split('.').map(nameSql).join('.')).join(', ');
  const place = after === '' ? '' : after === 'first' ? ' FIRST' : ` AFTER ${nameSql(after)}`;
  const term = transform.trim() === '' ? path : transform.includes('(') ? transform.replace(/\(\s*(\d+)\s*\)/, `($1, ${path})`) : `${transform.trim()}(${path})`;
  const change = {
    add: named && type.trim() !== '' && `ADD COLUMN ${path} ${type.trim()}${text.trim() === '' ? '' : ` COMMENT ${quoteText(text.trim())}`}${place}`,
    rename: named && text.trim() !== '' && `RENAME COLUMN ${path} TO ${nameSql(text.trim())}`,
    widen: named && type.trim() !== '' && `ALTER COLUMN ${path} TYPE ${type.trim()}`,
    optional: named && `ALTER COLUMN ${path} DROP NOT NULL`,
    comment: named && (text.trim() === '' ? `ALTER COLUMN ${path} DROP COMMENT` : `ALTER COLUMN ${path} COMMENT ${quoteText(text.trim())}`),
    move: named && place !== '' && `ALTER COLUMN ${path}${place}`,
    drop: named && `DROP COLUMN ${path}`,
    key: list !== '' && `SET KEY (${list})`,
    divide: named && `ADD PARTITION FIELD ${term}`,
    undivide: named && `DROP PARTITION FIELD ${term}`,
    order: list !== '' && `SET ORDER BY (${list})`,
    set: named && text.trim() !== '' && `SET PROPERTIES (${/^[\w.-]+$/.test(column.trim()) ? column.trim() : quoteText(column.trim())} = ${quoteText(text.trim())})`,
  }[kind];
  return change ? `ALTER TABLE ${table} ${change}` : undefined;
}
