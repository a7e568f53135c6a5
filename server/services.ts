/** Everything the routes use, made once at start. */
import type { Logger } from 'pino';
import type { Database } from './catalog/database';
import type { ReceiptBook } from './catalog/receipt-book';
import type { FindIndex } from './catalog/find-index';
import type { RelationNames } from './catalog/relation-names';
import type { Changes } from './change/changes';
import type { Config } from './config';
import type { Crawler } from './crawl/crawler';
import type { Schedules } from './crawl/schedules';
import type { Engine } from './engine/engine';
import type { Events } from './events';
import type { Jobs } from './jobs/jobs';
import type { ColumnKeeper } from './lake/column-keeper';
import type { DeltaUpkeep } from './lake/delta-upkeep';
import type { FilesAsTable } from './lake/files-as-table';
import type { Inspector } from './lake/inspect';
import type { Lake } from './lake/lake';
import type { LocalFiles } from './lake/local-files';
import type { Queries } from './query/queries';
import type { Readiness } from './readiness';
import type { Uploads } from './storage/uploads';

export interface Services {
  config: Config;
  log: Logger;
  database: Database;
  events: Events;
  jobs: Jobs;
  lake: Lake;
  inspector: Inspector;
  files: FilesAsTable;
  queryEngine: Engine;
  workEngine: Engine;
  names: RelationNames;
  receipts: ReceiptBook;
  local: LocalFiles;
  queries: Queries;
  changes: Changes;
  upkeep: DeltaUpkeep;
  uploads: Uploads;
  columns: ColumnKeeper;
  find: FindIndex;
  crawler: Crawler;
  schedules: Schedules;
  readiness: Readiness;
}
