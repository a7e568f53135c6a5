/**
 * Finds tables, views and columns by any part of their names, descriptions and tags. All words stand in one text that is
 * searched from end to end, which is quicker than an index in the database for the parts of words that people type; it
 * follows the catalog by what changed since it last looked.
 */
import type { Events } from '../events';
import { listSavedQueries } from './saved-queries';
import type { Sql } from './database';
import { nameOf, type Relation } from './relations';

export interface Hit {
  kind: 'table' | 'view' | 'column' | 'folder' | 'file' | 'source table' | 'source column' | 'saved query';
  name: string;
  inside: string;
  /** Why it was found, when not by its name. */
  because?: string;
}

export interface FindOptions {
  kind?: 'table' | 'view' | 'column';
  namespace?: string;
  /** The storage that it lies in, or a connected database. */
  source?: string;
  limit: number;
}

interface Entry extends Hit {
  namespace: string;
  source: string;
  /** Lower case: name, then everything else it is found by. */
  text: string;
}

/** Stands between entries; no name holds it. */
const BETWEEN = '\u0000';
/** So many hits are ranked; more are cut off before. */
const RANKED = 2000;

export class FindIndex {
  readonly #byRelation = new Map<number, Entry[]>();
  #extra: Entry[] = [];
  #saved: Entry[] = [];
  #savedAt: string[] = [];
  #entries: Entry[] = [];
  #starts = new Uint32Array();
  #text = '';
  #seen = '-infinity';
  #pending: Promise<void> = Promise.resolve();
  #dirty = true;

  constructor(
    readonly sql: Sql,
    events: Events,
  ) {
    events.listen((event) => {
      if (event.topic === 'catalog' || event.topic === 'columns') this.#dirty = true;
    });
  }

  /** Best first: names that are the words, that begin with them, that hold them, then descriptions and tags. */
  async find(words: string, options: FindOptions): Promise<Hit[]> {
    await this.refresh();
    const wanted = words.toLowerCase().split(/\s+/).filter((word) => word !== '').sort((a, b) => b.length - a.length);
    const [first, ...others] = wanted;
    if (first === undefined) return [];
    const found: Entry[] = [];
    for (let at = this.#text.indexOf(first); at >= 0 && found.length < RANKED; ) {
      const index = this.#entryAt(at);
      const entry = this.#entries[index]!;
      if (others.every((word) => entry.text.includes(word)) && fits(entry, options)) found.push(entry);
      at = this.#text.indexOf(first, this.#starts[index + 1] ?? this.#text.length);
    }
    const rank = (entry: Entry) => rankOf(entry, wanted);
    return found.sort((a, b) => rank(a) - rank(b) || a.name.length - b.name.length || (a.name < b.name ? -1 : 1)).slice(0, options.limit).map((entry) => asHit(entry, wanted));
  }

  /** Things that are found beside the catalog's own: tables of connected databases. */
  setExtra(entries: readonly (Hit & { namespace: string; source: string })[]): void {
    this.#extra = entries.map((entry) => ({ ...entry, text: `${entry.name} ${entry.inside}`.toLowerCase() }));
    this.#put();
  }

  /** Takes what changed in the catalog since the last time. */
  refresh(): Promise<void> {
    if (this.#dirty) {
      this.#dirty = false;
      this.#pending = this.#pending.then(() => this.#load());
    }
    return this.#pending;
  }

  async #load(): Promise<void> {
    const changed = await this.sql.query<Relation & { changedAt: string }>(`
      SELECT r.id, n.name AS namespace, r.name, r.kind, r.format, s.name AS storage, r.description, r.owner, r.tags, r.columns, r.notes, r.changed_at::text AS "changedAt"
      FROM relation r JOIN namespace n ON n.id = r.namespace_id LEFT JOIN storage s ON s.id = r.storage_id WHERE r.changed_at > $1 ORDER BY r.changed_at`, [this.#seen]);
    const [{ ids }] = (await this.sql.query<{ ids: number[] | null }>('SELECT array_agg(id) AS ids FROM relation')) as [{ ids: number[] | null }];
    const there = new Set(ids ?? []);
    const gone = [...this.#byRelation.keys()].filter((id) => !there.has(id));
    for (const id of gone) this.#byRelation.delete(id);
    for (const relation of changed) this.#byRelation.set(relation.id, entriesOf(relation));
    this.#seen = changed.at(-1)?.changedAt ?? this.#seen;
    const saved = await listSavedQueries(this.sql);
    const isSame = saved.length === this.#saved.length && saved.every((each, index) => each.changedAt === this.#savedAt[index]);
    this.#savedAt = saved.map((each) => each.changedAt);
    this.#saved = saved.map(({ name, sql }) => ({ kind: 'saved query', name, inside: sql, namespace: '', source: '', text: name.toLowerCase() }));
    if (changed.length > 0 || gone.length > 0 || !isSame) this.#put();
  }

  #put(): void {
    this.#entries = [...[...this.#byRelation.values()].flat(), ...this.#saved, ...this.#extra];
    this.#starts = new Uint32Array(this.#entries.length);
    let at = 0;
    this.#entries.forEach((entry, index) => {
      this.#starts[index] = at;
      at += entry.text.length + 1;
    });
    this.#text = this.#entries.map((entry) => entry.text).join(BETWEEN);
  }

  /** The last entry that begins at or before a place in the text. */
  #entryAt(place: number): number {
    let low = 0;
    let high = this.#starts.length - 1;
    while (low < high) {
      const middle = (low + high + 1) >> 1;
      if (this.#starts[middle]! <= place) low = middle;
      else high = middle - 1;
    }
    return low;
  }
}

function entriesOf(relation: Relation): Entry[] {
  const name = nameOf(relation);
  const source = relation.storage ?? '';
  const columns = (relation.columns ?? []).map((column): Entry => {
    const note = relation.notes[column.name];
    return { kind: 'column', name: column.name, inside: name, namespace: relation.namespace, source, text: [column.name, column.comment, note?.description, ...(note?.tags ?? [])].filter(Boolean).join(' ').toLowerCase() };
  });
  return [{ kind: relation.kind, name, inside: relation.format ?? 'view', namespace: relation.namespace, source, text: [name, relation.description, relation.owner, ...relation.tags].filter(Boolean).join(' ').toLowerCase() }, ...columns];
}

function fits(entry: Entry, { kind, namespace, source }: FindOptions): boolean {
  if (kind !== undefined && entry.kind !== kind && entry.kind !== `source ${kind}`) return false;
  if (namespace !== undefined && entry.namespace.toLowerCase() !== namespace.toLowerCase()) return false;
  return source === undefined || entry.source.toLowerCase() === source.toLowerCase();
}

function rankOf(entry: Entry, wanted: readonly string[]): number {
  const name = entry.name.toLowerCase();
  const own = name.slice(name.lastIndexOf('.') + 1);
  const isColumn = entry.kind === 'column' || entry.kind === 'source column' ? 0.5 : 0;
  if (wanted.some((word) => own === word || name === word)) return isColumn;
  if (wanted.some((word) => own.startsWith(word))) return 1 + isColumn;
  return (wanted.every((word) => name.includes(word)) ? 2 : 3) + isColumn;
}

function asHit({ kind, name, inside, text }: Entry, wanted: readonly string[]): Hit {
  const byName = wanted.every((word) => name.toLowerCase().includes(word));
  return { kind, name, inside, ...(byName ? {} : { because: text.slice(name.length + 1, name.length + 160) }) };
}
