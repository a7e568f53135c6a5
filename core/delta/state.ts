/** A table's state at one version, rebuilt from its log (Delta protocol, "Action Reconciliation"). */
import { LakeError } from '../errors';
import { parseJson } from '../json';
import { toText, type ObjectStore } from '../storage/object-store';
import type { Commit, DomainMetadata, Metadata, Protocol, Remove, Txn } from './actions';
import { fileKey } from './file-key';
import { ListedFiles, type FilesEditor, type LiveFiles } from './live-files';

/** Everything true of a table at one version. */
export interface LogState {
  version: number;
  metadata: Metadata;
  protocol: Protocol;
  files: LiveFiles;
  /** Files that were removed and whose tombstones are still kept, by `fileKey`; those in an index are not among them. */
  removes: ReadonlyMap<string, Remove>;
  txns: ReadonlyMap<string, Txn>;
  domains: ReadonlyMap<string, DomainMetadata>;
}

/** Applies commits one after the other; `stateAt` says what they come to. */
export class Replay {
  #metadata: Metadata | undefined;
  #protocol: Protocol | undefined;
  readonly #files: FilesEditor;
  readonly #removes: Map<string, Remove>;
  readonly #txns: Map<string, Txn>;
  readonly #domains: Map<string, DomainMetadata>;

  /** `from` stays as it is; `files` are what it begins with where there is none. */
  constructor(readonly table: string, from?: LogState, files: LiveFiles = new ListedFiles()) {
    this.#metadata = from?.metadata;
    this.#protocol = from?.protocol;
    this.#files = (from?.files ?? files).edit();
    this.#removes = new Map(from?.removes);
    this.#txns = new Map(from?.txns);
    this.#domains = new Map(from?.domains);
  }

  apply(commit: Commit): void {
    if (commit.metadata) this.#metadata = commit.metadata;
    if (commit.protocol) this.#protocol = commit.protocol;
    if (!this.#metadata || !this.#protocol) {
      const lacking = this.#metadata ? 'protocol' : 'metaData';
      throw new LakeError('bad-file', `${this.table}: version ${commit.version} of the Delta log has no ${lacking} action before it.`, { table: this.table, version: commit.version });
    }
    for (const remove of commit.removes) {
      this.#files.remove(remove);
      this.#removes.set(fileKey(remove), remove);
    }
    for (const add of commit.adds) {
      this.#removes.delete(fileKey(add));
      this.#files.add(add);
    }
    for (const txn of commit.txns) this.#txns.set(txn.appId, txn);
    for (const domain of commit.domains) {
      if (domain.removed) this.#domains.delete(domain.domain);
      else this.#domains.set(domain.domain, domain);
    }
  }

  /** Hands its maps over: nothing may be applied afterwards. */
  stateAt(version: number): LogState {
    return { version, metadata: this.#metadata!, protocol: this.#protocol!, files: this.#files.done(), removes: this.#removes, txns: this.#txns, domains: this.#domains };
  }
}

/** The state after one more commit; the old one stays as it is. */
export function applyCommit(state: LogState | undefined, commit: Commit, table: string): LogState {
  const replay = new Replay(table, state);
  replay.apply(commit);
  return replay.stateAt(commit.version);
}

/** What a version checksum file says of the table. */
export interface Checksum {
  tableSizeBytes: number;
  numFiles: number;
}

/** Fails when a checksum file does not fit the state: the log, or a checkpoint in it, was changed or damaged. */
export async function verifyChecksum(store: ObjectStore, path: string, state: LogState, table: string): Promise<void> {
  const problem = await checksumProblem(store, path, state);
  if (!problem) return;
  throw new LakeError('bad-file', `${table}: version ${state.version} has ${problem} by its checksum file ${path}. The log, a checkpoint or the checksum was changed.`, {
    table, version: state.version, path, hint: 'Upkeep of the table can check its log and repair what the commits prove. A checksum file may also be taken out of the log folder.',
  });
}

/** How the state differs from what a checksum file says of it; undefined where it does not, or where the file is no checksum. */
export async function checksumProblem(store: ObjectStore, path: string, { files: { count, bytes } }: LogState): Promise<string | undefined> {
  const said = await readChecksum(store, path);
  if (!said || (said.numFiles === count && said.tableSizeBytes === bytes)) return undefined;
  return `${count} files and ${bytes} bytes by its log, but ${said.numFiles} files and ${said.tableSizeBytes} bytes`;
}

/** Undefined when the file is no checksum: it only ever confirms, so a damaged one says nothing. */
async function readChecksum(store: ObjectStore, path: string): Promise<Checksum | undefined> {
  try {
    const { tableSizeBytes, numFiles } = parseJson(toText(await store.read(path))) as Partial<Checksum>;
    return Number.isSafeInteger(tableSizeBytes) && Number.isSafeInteger(numFiles) ? { tableSizeBytes: tableSizeBytes!, numFiles: numFiles! } : undefined;
  } catch {
    return undefined;
  }
}
