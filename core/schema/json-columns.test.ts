/** Columns are read from the documents in which people have them. */
import { describe, expect, it } from 'vitest';
import { columnSql } from '../sql/table-sql';
import { columnsOfJson } from './json-columns';

const sql = (json: unknown) => columnsOfJson(JSON.stringify(json)).map(columnSql);

describe('columns of JSON', () => {
  it('come from a JSON Schema', () => {
    expect(sql({
      type: 'object', required: ['id'],
      properties: { id: { type: 'integer', description: 'counts on' }, small: { type: 'integer', format: 'int32' }, at: { type: ['string', 'null'], format: 'date-time' }, tags: { type: 'array', items: { type: 'string' } }, place: { type: 'object', required: ['lat'], properties: { lat: { type: 'number' } } }, levels: { type: 'object', additionalProperties: { type: 'boolean' } } },
    })).toEqual(["id bigint NOT NULL COMMENT 'counts on'", 'small integer', 'at timestamptz', 'tags varchar[]', 'place struct(lat double NOT NULL)', 'levels map(varchar, boolean)']);
  });

  it('come from schemas of tables, and from lists', () => {
    expect(sql({ type: 'struct', 'schema-id': 0, fields: [{ id: 1, name: 'n', required: true, type: 'long', doc: 'x' }, { id: 2, name: 'u', required: false, type: 'uuid' }] })).toEqual(["n bigint NOT NULL COMMENT 'x'", 'u uuid']);
    expect(sql({ type: 'struct', fields: [{ name: 'n', type: 'integer', nullable: true, metadata: {} }, { name: 't', type: 'timestamp_ntz', nullable: false, metadata: { comment: 'y' } }] })).toEqual(['n integer', "t timestamp NOT NULL COMMENT 'y'"]);
    expect(sql([{ name: 'a', type: 'decimal(10, 2)', nullable: false }, { name: 'b', type: 'date', description: 'z' }])).toEqual(['a decimal(10,2) NOT NULL', "b date COMMENT 'z'"]);
  });

  it.each<[unknown, RegExp]>([
    [{ a: 1 }, /tells no columns/], [[{ name: 'a' }], /Entry 1 of the list/], [{ properties: { a: { type: ['string', 'integer'] } } }, /"a" is \["string","integer"\]/], [{ properties: { a: { type: 'array' } } }, /What "a, what is in it" is/],
  ])('%j are refused', (json, message) => {
    expect(() => sql(json)).toThrow(message);
  });

  it('of a text that is no JSON are refused', () => {
    expect(() => columnsOfJson('{')).toThrow(/it is no JSON/);
  });
});
