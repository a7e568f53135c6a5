/** Checkpoints as Parquet: the actions go to the engine as JSON lines with the checkpoint's schema (Delta protocol, "Checkpoint Schema"). */
import { createWriteStream, mkdirSync, rmSync, statSync } from 'node:fs';
import path from 'node:path';
import { randomUUID } from 'node:crypto';
import { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { stringifyJson } from '../../core/json';
import type { Action } from '../../core/delta/actions';
import type { ActionFiles } from '../../core/delta/checkpoint-write';
import { quoteText } from '../../core/sql/tokens';
import type { EngineCalls } from '../engine/engine';
import type { LakeStore } from '../storage/lake-store';

const TEXTS = 'MAP(VARCHAR, VARCHAR)';
const VECTOR = 'STRUCT("storageType" VARCHAR, "pathOrInlineDv" VARCHAR, "offset" INTEGER, "sizeInBytes" INTEGER, cardinality BIGINT)';

/** Columns of a checkpoint; those that none of its actions have are left out, but for the five that readers expect. */
const COLUMNS: Record<string, string> = {
  txn: 'STRUCT("appId" VARCHAR, version BIGINT, "lastUpdated" BIGINT)',
  add: `STRUCT(path VARCHAR, "partitionValues" ${TEXTS}, size BIGINT, "modificationTime" BIGINT, "dataChange" BOOLEAN, stats VARCHAR, tags ${TEXTS}, "deletionVector" ${VECTOR}, "baseRowId" BIGINT, "defaultRowCommitVersion" BIGINT, "clusteringProvider" VARCHAR)`,
  remove: `STRUCT(path VARCHAR, "deletionTimestamp" BIGINT, "dataChange" BOOLEAN, "extendedFileMetadata" BOOLEAN, "partitionValues" ${TEXTS}, size BIGINT, "deletionVector" ${VECTOR}, "baseRowId" BIGINT, "defaultRowCommitVersion" BIGINT)`,
  metaData: `STRUCT(id VARCHAR, name VARCHAR, description VARCHAR, format STRUCT(provider VARCHAR, options ${TEXTS}), "schemaString" VARCHAR, "partitionColumns" VARCHAR[], configuration ${TEXTS}, "createdTime" BIGINT)`,
  protocol: 'STRUCT("minReaderVersion" INTEGER, "minWriterVersion" INTEGER, "readerFeatures" VARCHAR[], "writerFeatures" VARCHAR[])',
  domainMetadata: 'STRUCT(domain VARCHAR, configuration VARCHAR, removed BOOLEAN)',
};
const ALWAYS = ['txn', 'add', 'remove', 'metaData', 'protocol'];
/** The engine makes room for the longest action; schemas of wide tables are long. */
const USUAL_ACTION_BYTES = 1024 * 1024;

export class EngineActionFiles implements ActionFiles {
  constructor(
    readonly engine: EngineCalls,
    readonly store: LakeStore,
    /** Folder of files on their way, cleared when the server starts. */
    readonly scratch: string,
  ) {}

  async write(target: string, actions: AsyncIterable<Action>): Promise<{ bytes: number }> {
    const [lines, made] = ['jsonl', 'parquet'].map((kind) => path.join(this.scratch, `${randomUUID()}.${kind}`)) as [string, string];
    mkdirSync(this.scratch, { recursive: true });
    const kinds = new Set(target.includes('/_sidecars/') ? ['add', 'remove'] : ALWAYS);
    try {
      const longest = { bytes: USUAL_ACTION_BYTES };
      await pipeline(Readable.from(texts(actions, kinds, longest)), createWriteStream(lines));
      const columns = Object.entries(COLUMNS).filter(([kind]) => kinds.has(kind));
      await this.engine.call('run', {
        sql: `COPY (SELECT * FROM read_json(${quoteText(lines)}, format = 'newline_delimited', maximum_object_size = ${longest.bytes}, columns = {${columns.map(([kind, type]) => `"${kind}": ${quoteText(type)}`).join(', ')}})) TO ${quoteText(made)} (FORMAT parquet, COMPRESSION snappy)`,
      });
      const { size } = statSync(made);
      await this.store.putFile(target, made);
      return { bytes: size };
    } finally {
      rmSync(lines, { force: true });
      rmSync(made, { force: true });
    }
  }
}

/** Notes the kinds of the actions, and room for the longest. */
async function* texts(actions: AsyncIterable<Action>, kinds: Set<string>, longest: { bytes: number }): AsyncGenerator<string> {
  for await (const action of actions) {
    kinds.add(Object.keys(action)[0]!);
    const text = `${stringifyJson(action)}\n`;
    longest.bytes = Math.max(longest.bytes, text.length * 4);
    yield text;
  }
}
