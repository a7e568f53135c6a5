/** A table's definition as a form holds it, from its SQL and back. */
import { LakeError } from '../../../core/errors';
import { parseTypeName } from '../../../core/schema/type-names';
import { field, type Field } from '../../../core/schema/types';
import { readDefinition, type PartitionTerm } from '../../../core/sql/define';
import { FILE_PLAN_OPTIONS } from '../../../core/write/plan';
import { FormProblem } from '../../stores/sql-form';
import { planForm, planOptions, type FilePlanForm } from '../write/write-form';
import { createTableSql, nameSql, typeAsSql } from '../../../core/sql/table-sql';

export interface ColumnRow {
  name: string;
  /** As SQL names it; what is inside structs too. */
  type: string;
  required: boolean;
  key: boolean;
  comment: string;
}

export interface TermRow {
  source: string;
  /** Without its number: `bucket`. */
  transform: string;
  /** Of `bucket` and `truncate`. */
  size: number;
}

export interface TableForm {
  namespace: string;
  name: string;
  /** Plain Parquet files are made from a query alone. */
  format: 'iceberg' | 'delta' | 'parquet';
  comment: string;
  /** `storage:folder` of an external table; empty for a managed one. */
  location: string;
  columns: ColumnRow[];
  partitionBy: TermRow[];
  orderBy: string[];
  properties: { name: string; value: string }[];
  /** The query that it is filled from, which then gives the columns; empty for none. */
  query: string;
  /** How its rows go into files; absent where the format's own way is taken. */
  files?: FilePlanForm;
}

export const SIZED = ['bucket', 'truncate'];

export function emptyForm(namespace: string): TableForm {
  return { namespace, name: '', format: 'iceberg', comment: '', location: '', columns: [{ name: 'id', type: 'bigint', required: true, key: false, comment: '' }], partitionBy: [], orderBy: [], properties: [], query: '' };
}

/** Fails with the position of what is wrong. */
export function formOf(sql: string): TableForm {
  const statement = readDefinition(sql);
  if (statement.kind !== 'create-table') throw new LakeError('bad-request', 'The form shows CREATE TABLE; run other statements in the query editor.', { position: 0 });
  const { table, definition, source } = statement;
  const { format = 'iceberg', location = '', ...others } = definition.options;
  const isPlan = (name: string) => (FILE_PLAN_OPTIONS as readonly string[]).includes(name);
  const properties = Object.fromEntries(Object.entries(others).filter(([name]) => !isPlan(name)));
  if (format !== 'iceberg' && format !== 'delta' && format !== 'parquet') throw new LakeError('bad-request', `Tables are made of the formats iceberg, delta and parquet, not ${format}.`, { position: table.start });
  return {
    namespace: table.namespace, name: table.name, format, location, comment: definition.comment ?? '',
    columns: definition.columns.map((column) => columnRow(column, definition.key.includes(column.name))),
    partitionBy: definition.partitionBy.map(termRow), orderBy: definition.orderBy, properties: Object.entries(properties).map(([name, value]) => ({ name, value })),
    query: source ? sql.slice(source.start, source.end) : '', ...(Object.keys(others).some(isPlan) ? { files: planForm(others) } : {}),
  };
}

export function columnRow({ name, type, required, comment = '' }: Field, key = false): ColumnRow {
  return { name, type: typeAsSql(type), required, key, comment };
}

function termRow({ source, transform }: PartitionTerm): TermRow {
  const [, name = 'identity', size = '16'] = /^(\w+)(?:\[(\d+)\])?$/.exec(transform) ?? [];
  return { source, transform: name, size: Number(size) };
}

/** Fails with a `FormProblem`. */
export function sqlOf(form: TableForm): string {
  if (form.namespace.trim() === '' || form.name.trim() === '') throw new FormProblem('name', 'The table needs a namespace and a name.');
  const columns = form.columns.map((row, index) => {
    if (row.name.trim() === '') throw new FormProblem('columns', 'This column has no name.', index);
    try {
      return field(row.name.trim(), parseTypeName(row.type.trim()), { required: row.required, ...(row.comment.trim() === '' ? {} : { comment: row.comment.trim() }) });
    } catch (error) {
      throw new FormProblem('columns', (error as Error).message, index);
    }
  });
  if (form.format === 'parquet' && form.query.trim() === '') throw new FormProblem('columns', 'A Parquet table is its files, so it needs a query that fills it: start from one, and take its rows.');
  if (columns.length === 0 && form.query.trim() === '') throw new FormProblem('columns', 'The table needs a column, or a query to fill it from.');
  const table = [...form.namespace.trim().split('.'), form.name.trim()].map(nameSql).join('.');
  return createTableSql(table, {
    columns, key: form.columns.filter((row) => row.key).map((row) => row.name.trim()), ...(form.comment.trim() === '' ? {} : { comment: form.comment.trim() }),
    partitionBy: form.partitionBy.filter((row) => row.source !== '').map((row) => ({ source: row.source, transform: SIZED.includes(row.transform) ? `${row.transform}[${row.size}]` : row.transform })),
    orderBy: form.orderBy.filter((each) => each !== ''),
    options: { format: form.format, ...(form.location.trim() === '' ? {} : { location: form.location.trim() }), ...(form.files && form.query.trim() !== '' ? planOptions(form.files) : {}), ...Object.fromEntries(form.properties.filter((each) => each.name.trim() !== '').map((each) => [each.name.trim(), each.value])) },
  }, form.query.trim() === '' ? undefined : form.query.trim());
}
