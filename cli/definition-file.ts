/** A namespace or a table as a JSON file defines it, as the statement that makes it. */
import Joi from 'joi';
import { LakeError } from '../core/errors';
import { columnsOfJson } from '../core/schema/json-columns';
import { readDefinition } from '../core/sql/define';
import { createTableSql, nameSql } from '../core/sql/table-sql';
import { quoteText } from '../core/sql/tokens';

interface DefinitionFile {
  namespace: string;
  table?: string;
  comment?: string;
  /** Names with types, a JSON Schema, or the schema of a Delta or Iceberg table. */
  columns?: unknown;
  key: string[];
  /** As SQL has them: `day(taken_at)`. */
  partitionBy: string[];
  orderBy: string[];
  format?: string;
  location?: string;
  properties: Record<string, string>;
  query?: string;
}

const texts = Joi.array().items(Joi.string().min(1)).default([]);
const schema = Joi.object({
  namespace: Joi.string().required(), table: Joi.string(), comment: Joi.string().allow(''), columns: Joi.alternatives(Joi.array(), Joi.object()), key: texts, partitionBy: texts, orderBy: texts,
  format: Joi.string(), location: Joi.string(), properties: Joi.object().pattern(Joi.string(), Joi.alternatives(Joi.string(), Joi.number(), Joi.boolean()).custom(String)).default({}), query: Joi.string(),
});

/** Fails with `bad-request` saying what is wrong in the file. */
export function definitionSql(text: string): string {
  const file = read(text);
  const namespace = file.namespace.split('.').map(nameSql).join('.');
  const options = { ...(file.format ? { format: file.format } : {}), ...(file.location ? { location: file.location } : {}), ...file.properties };
  if (file.table === undefined) {
    const clause = Object.keys(options).length > 0 ? ` WITH (${Object.entries(options).map(([name, value]) => `${quoteText(name)} = ${quoteText(value)}`).join(', ')})` : '';
    return `CREATE NAMESPACE ${namespace}${file.comment ? ` COMMENT ${quoteText(file.comment)}` : ''}${clause}`;
  }
  const columns = file.columns === undefined ? [] : columnsOfJson(JSON.stringify(file.columns));
  return createTableSql(`${namespace}.${nameSql(file.table)}`, { columns, key: file.key, ...(file.comment ? { comment: file.comment } : {}), partitionBy: termsOf(file.partitionBy), orderBy: file.orderBy, options }, file.query);
}

function read(text: string): DefinitionFile {
  let json: unknown;
  try {
    json = JSON.parse(text);
  } catch (error) {
    throw new LakeError('bad-request', `The file is no JSON: ${(error as Error).message}.`);
  }
  const { value, error } = schema.validate(json, { abortEarly: false });
  if (error) throw new LakeError('bad-request', `The file defines no namespace or table: ${error.details.map((each) => each.message).join('; ')}.`);
  return value as DefinitionFile;
}

function termsOf(terms: readonly string[]) {
  if (terms.length === 0) return [];
  const statement = readDefinition(`CREATE TABLE a.b (c integer) PARTITION BY (${terms.join(', ')})`);
  return statement.kind === 'create-table' ? statement.definition.partitionBy : [];
}
