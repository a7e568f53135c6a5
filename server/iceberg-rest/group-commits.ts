/**
 * Commits of several clients to one table: those that wait together are worked out one on top of the other, their metadata
 * files written at once, and the pointer moved to the last. Each is a commit of its own, in the order in which they came.
 */
import { LakeError } from '../../core/errors';
import { nextMetadata, nextNumber, removeForgotten } from '../../core/iceberg/commit';
import type { TableMetadata } from '../../core/iceberg/metadata';
import type { CatalogPointer, WrittenMetadata } from '../../core/iceberg/pointer';
import { rebasedAppend } from '../../core/iceberg/rebase';
import type { IcebergTable } from '../../core/iceberg/table';
import { applyUpdates, checkRequirements, type TableRequirement, type TableUpdate } from '../../core/iceberg/updates';
import { COMMIT_RETRIES, retrying } from '../../core/table/retry';
import type { Identity } from '../access/access';
import type { Relation } from '../catalog/relations';
import { randomIds, systemClock } from '../lake/lake';
import type { LoadedTable } from './tables';

export interface AskedCommit {
  identity: Identity;
  requirements: readonly TableRequirement[];
  updates: readonly TableUpdate[];
}

export interface DoneCommit {
  identity: Identity;
  relation: Relation;
  updates: readonly TableUpdate[];
  metadata: TableMetadata;
}

export interface FailedCommit extends Omit<DoneCommit, 'metadata'> {
  error: unknown;
}

interface Waiting extends AskedCommit {
  relation: Relation;
  isRejected?: boolean;
  resolve(loaded: LoadedTable): void;
  reject(error: unknown): void;
}

interface Ports {
  /** Nothing else commits to the table meanwhile in this process. */
  inTurn<T>(relationId: number, work: () => Promise<T>): Promise<T>;
  swap(relationId: number, expected: string, next: string): Promise<boolean>;
  done(commit: DoneCommit): void;
  failed(commit: FailedCommit): void;
  locationOf(relation: Relation, path: string): string;
}

/** So many at most in one go. */
const MOST = 32;
const SHOWN_AFTER_MS = 100;
const TABLES_KEPT = 50;

interface State {
  path: string;
  metadata: TableMetadata;
}

interface Link {
  commit: Waiting;
  path: string;
  number: number;
  next: TableMetadata;
}

/** Commits one on top of the other; appends that were made on an older state are made again on this one, others whose requirements do not hold are left out. */
async function chained(table: IcebergTable, pointer: CatalogPointer, { path, metadata }: State, commits: readonly Waiting[]): Promise<{ chain: Link[]; refused: { commit: Waiting; error: unknown }[] }> {
  const chain: Link[] = [];
  const refused: { commit: Waiting; error: unknown }[] = [];
  for (const commit of commits) {
    const before = chain.at(-1) ?? { path, next: metadata };
    try {
      const now = Math.max(systemClock.now(), before.next['last-updated-ms'] + 1);
      const changed = await applied(table, before.next, commit, now);
      const next = nextMetadata(table, before.path, before.next, changed, now);
      const number = nextNumber(before.path);
      chain.push({ commit, next, number, path: pointer.nameFor(next, number) });
    } catch (error) {
      refused.push({ commit, error });
    }
  }
  return { chain, refused };
}

async function applied(table: IcebergTable, before: TableMetadata, commit: AskedCommit, now: number): Promise<TableMetadata> {
  try {
    checkRequirements(before, commit.requirements, table.name);
    return applyUpdates(before, commit.updates, now, table.name);
  } catch (error) {
    if (!(error instanceof LakeError && error.kind === 'conflict')) throw error;
    // What cannot be made again is the client's to work out anew, whatever stood in the way here.
    const again = await rebasedAppend(table, before, commit, now, { ids: randomIds }).catch((problem: unknown) => {
      if (problem instanceof LakeError) return undefined;
      throw problem;
    });
    if (!again) throw error;
    return applyUpdates(before, again.updates, now, table.name);
  }
}

export class GroupCommits {
  readonly #waiting = new Map<number, Waiting[]>();
  readonly #newest = new Map<number, State>();
  /** Newest states that wait to be shown. */
  readonly #shown = new Map<number, WrittenMetadata>();

  constructor(readonly ports: Ports) {}

  add(relation: Relation, table: IcebergTable, pointer: CatalogPointer, asked: AskedCommit): Promise<LoadedTable> {
    return new Promise((resolve, reject) => {
      const queue = this.#waiting.get(relation.id);
      const waiting = { ...asked, relation, resolve, reject };
      if (queue) return void queue.push(waiting);
      this.#waiting.set(relation.id, [waiting]);
      void this.ports.inTurn(relation.id, () => this.#run(relation.id, table, pointer)).catch(() => undefined);
    });
  }

  /** Until nobody waits. */
  async #run(id: number, table: IcebergTable, pointer: CatalogPointer): Promise<void> {
    for (;;) {
      const group = this.#waiting.get(id)!.splice(0, MOST);
      if (group.length === 0) {
        this.#waiting.delete(id);
        return;
      }
      try {
        await this.#commit(id, table, pointer, group);
      } catch (error) {
        for (const each of group) this.#reject(each, error);
      }
    }
  }

  async #commit(id: number, table: IcebergTable, pointer: CatalogPointer, group: readonly Waiting[]): Promise<void> {
    let left = [...group];
    await retrying(table.name, COMMIT_RETRIES, systemClock, async (attempt) => {
      const kept = attempt === 0 ? this.#newest.get(id) : undefined;
      let base = kept ?? (await table.current());
      let { chain, refused } = await chained(table, pointer, base, left);
      if (kept && refused.length > 0) {
        // It may be right where the table was changed by others meanwhile.
        base = await table.current();
        ({ chain, refused } = await chained(table, pointer, base, left));
      }
      for (const { commit, error } of refused) this.#reject(commit, error);
      const { path, metadata } = base;
      left = chain.map(({ commit }) => commit);
      const last = chain.at(-1);
      if (!last) return true;
      const written = await Promise.all(chain.map((each) => pointer.writeAt(each.path, each.next, each.number)));
      const isDone = await this.ports.swap(id, path, last.path);
      this.#newest.delete(id);
      if (!isDone) {
        // Somebody else was first: all is worked out anew from there.
        await Promise.all(written.map((each) => table.store.delete(each.path).catch(() => undefined)));
        return undefined;
      }
      for (const each of chain) {
        table.adopt(each.path, each.next);
        this.ports.done({ identity: each.commit.identity, relation: each.commit.relation, updates: each.commit.updates, metadata: each.next });
        each.commit.resolve({ relation: each.commit.relation, metadata: each.next, metadataLocation: this.ports.locationOf(each.commit.relation, each.path) });
      }
      this.#keep(id, { path: last.path, metadata: last.next });
      this.#show(id, pointer, written.at(-1)!);
      void removeForgotten(table, metadata, last.next);
      return true;
    });
  }

  /** What this process committed last is most likely what stands; the swap of the pointer finds out where it is not. */
  #keep(id: number, state: State): void {
    this.#newest.set(id, state);
    if (this.#newest.size > TABLES_KEPT) this.#newest.delete(this.#newest.keys().next().value!);
  }

  /** File-system readers are shown what is committed behind the answers, and not every state of many in a row; it decides nothing. */
  #show(id: number, pointer: CatalogPointer, written: WrittenMetadata): void {
    const isComing = this.#shown.has(id);
    this.#shown.set(id, written);
    if (isComing) return;
    setTimeout(() => {
      const newest = this.#shown.get(id)!;
      this.#shown.delete(id);
      void pointer.published(newest).catch(() => undefined);
    }, SHOWN_AFTER_MS);
  }

  #reject(commit: Waiting, error: unknown): void {
    if (commit.isRejected) return;
    commit.isRejected = true;
    this.ports.failed({ identity: commit.identity, relation: commit.relation, updates: commit.updates, error });
    commit.reject(error);
  }
}
