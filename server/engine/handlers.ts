/** What an engine does for each call. */
import { logLayout } from '../../core/text/log-lines';
import { guessColumn } from '../../core/text/column-forms';
import { readDelimited } from '../../core/text/delimited';
import { guessRecord } from '../../core/folder/xml-records';
import { jsonLayout } from '../../core/json/json-layout';
import { writeAvroFile } from './avro-file';
import { convert, unpack, xmlRecordsOf } from './conversions';
import type { ChangeSessions } from './change-sessions';
import type { Sealed } from './instances';
import type { CallName, Calls } from './messages';
import type { Planner } from './planner';
import type { RunningQueries } from './run-query';
import { chunkRows, converter } from './values';

export type Handlers = { [Name in CallName]: (ask: Calls[Name]['ask']) => Promise<unknown> };

/** What runs user SQL; absent in a process that runs none. */
export interface UserSql {
  queries: RunningQueries;
  changes: ChangeSessions;
}

/** `own` runs trusted SQL. */
export function handlersOf(own: Sealed | undefined, planner: Planner | undefined, user: UserSql | undefined): Handlers {
  const plans = () => {
    if (!planner) throw new Error('This process plans nothing.');
    return planner;
  };
  const userSql = () => {
    if (!user) throw new Error('This process runs no user SQL.');
    return user;
  };
  return {
    parse: async ({ sql }) => plans().parse(sql),
    plan: async ({ sql, tables, optimize }) => plans().plan(sql, tables, optimize),
    query: async (request) => userSql().queries.run(request),
    beginChange: async (request) => userSql().changes.begin(request),
    changeStep: async (step) => userSql().changes.step(step),
    endChange: async ({ id }) => userSql().changes.end(id),
    progress: async ({ id }) => user?.changes.progress(id) ?? null,
    cancel: async ({ id }) => (user ? user.queries.cancel(id) || user.changes.cancel(id) : false),
    convert: ({ options, source, target, name, mostBytes }) => convert(options, source, target, name, mostBytes).then(() => true),
    unpack: ({ source, target, compression, name, mostBytes }) => unpack(source, target, compression, name, mostBytes).then(() => true),
    container: async (request) => (await import('./containers')).unpackContainer(request),
    arrowFields: async ({ source }) => (await import('./arrow-lines')).arrowFields(source),
    xmlRecords: async ({ head, record = guessRecord(head) }) => ({ record, objects: record === undefined ? [] : xmlRecordsOf(head, record) }),
    delimited: async (input) => readDelimited(input),
    jsonLayout: async ({ text, isCut, isLines, syntax }) => {
      if (syntax === 'json') return jsonLayout(text, isCut, isLines);
      const { wholeItems, yamlAsJson } = await import('./yaml-json');
      return jsonLayout([...yamlAsJson(isCut ? wholeItems(text) : text)].join(''), false, false);
    },
    logLayout: async ({ lines }) => logLayout(lines),
    guess: async (columns) => columns.map(({ name, texts }) => guessColumn(texts, name)),
    writeAvro: (request) => writeAvroFile(request).then(() => true),
    run: async ({ sql }) => {
      if (!own) throw new Error('This process runs no SQL of ours.');
      const connection = await own.instance.connect();
      try {
        const result = await connection.run(sql);
        const converters = result.columnTypes().map(converter);
        const chunks = await result.fetchAllChunks();
        return { columns: result.columnNames(), rows: chunks.flatMap((chunk) => chunkRows(chunk, converters)) };
      } finally {
        connection.closeSync();
      }
    },
  };
}
