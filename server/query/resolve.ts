/** From the names in a query to tables at a version: the catalog's tables, its views with what they read, and files by path. */
import { ChangeFeed } from '../../core/delta/change-feed';
import { DeltaTable } from '../../core/delta/table';
import { LakeError } from '../../core/errors';
import type { Statement, TableReference } from '../../core/sql/statement';
import type { AsOf, LakeTable, Snapshot } from '../../core/table/contract';
import { LATEST } from '../../core/table/contract';
import { demand, demandEverywhere, mayDo, type Identity, type Right } from '../access/access';
import type { RelationNames } from '../catalog/relation-names';
import { findByBareName, type Relation, type ViewDefinition } from '../catalog/relations';
import type { Lake, OpenStorage } from '../lake/lake';
import type { FilesAsTable, FilesRead } from '../lake/files-as-table';
import { checkOptions, optionsOfSql } from '../lake/read-options-schema';
import type { Statements } from './statements';

/** One table of a query, at the state it is read at. */
export interface ResolvedTable {
  /** Full name: `refined.soundings`, or `tern-bay:landing/limits` for files. */
  name: string;
  table: LakeTable;
  storage: OpenStorage;
  snapshot: Snapshot;
  /** A newer version exists. */
  past: boolean;
  asOf: AsOf;
}

/** A query whose references are tables or other queries (views). */
export interface ResolvedQuery {
  statement: Statement;
  sources: (ResolvedTable | ResolvedQuery)[];
}

export function isTable(source: ResolvedTable | ResolvedQuery): source is ResolvedTable {
  return 'table' in source;
}

/** Full table names to versions, or to states that were opened before; used to run a query again as it was, and for what a statement changes. */
export type Pins = ReadonlyMap<string, number | Snapshot>;

const MAX_VIEW_DEPTH = 16;

/** How names in the text of a view are meant. */
type NamesInView = Pick<ViewDefinition, 'defaultNamespace' | 'defaultCatalog'> & { isOutside?: boolean };

export class Resolver {
  readonly #snapshots = new Map<string, Promise<ResolvedTable>>();

  /** For one query: tables named several times are opened once, so all references agree on what is latest. */
  constructor(
    readonly lake: Lake,
    readonly names: RelationNames,
    readonly files: FilesAsTable,
    readonly statements: Statements,
    readonly as: Identity,
    readonly pins: Pins,
  ) {}

  /** The table that a name stands for, as it is to be changed: of the catalog, or by its folder. */
  async open(name: readonly string[], right: Right): Promise<{ name: string; table: LakeTable; storage: OpenStorage; relation?: Relation }> {
    if (name.length === 1 && name[0]!.includes(':')) {
      demandEverywhere(this.as, right, `${right} ${name[0]!} by its path`);
      return { name: name[0]!, ...(await this.files.open(name[0]!)) };
    }
    const relation = await this.#relation(name, right);
    const fullName = `${relation.namespace}.${relation.name}`;
    if (relation.definition.kind === 'view') throw new LakeError('bad-request', `${fullName} is a view; its rows are changed in the tables that it reads.`, { table: fullName });
    return { name: fullName, table: this.lake.table(relation), storage: this.lake.storageOf(relation), relation };
  }

  async resolve(sql: string): Promise<ResolvedQuery> {
    return this.#resolve(await this.statements.read(sql), [], {});
  }

  async #resolve(statement: Statement, views: string[], names: NamesInView): Promise<ResolvedQuery> {
    const sources = await Promise.all(statement.references.map((reference) => this.#source({ ...reference, name: this.#inView(reference.name, names) }, views, names)));
    return { statement, sources };
  }

  async #source(reference: TableReference, views: string[], names: NamesInView): Promise<ResolvedTable | ResolvedQuery> {
    try {
      if (reference.changes) return await this.#changes(reference.name, reference.changes);
      const filesName = reference.name.length === 1 && reference.name[0]!.includes(':') ? reference.name[0]! : undefined;
      if (filesName !== undefined) demandEverywhere(this.as, 'read', `read ${filesName} by its path`);
      if (filesName !== undefined) return await this.#files(filesName, reference);
      const relation = (await this.#inDefaultNamespace(reference.name, names)) ?? (await this.#relation(reference.name, 'read'));
      return relation.definition.kind === 'view' ? await this.#view(relation, reference, views) : await this.#table(relation, reference.asOf);
    } catch (error) {
      if (error instanceof LakeError && error.details.position === undefined && views.length === 0) {
        throw new LakeError(error.kind, error.message, { ...error.details, position: reference.start }, { cause: error });
      }
      throw error;
    }
  }

  async #changes(names: readonly string[], range: { since: number; until?: number }): Promise<ResolvedTable> {
    const { name, table, storage } = await this.open(names, 'read');
    if (!(table instanceof DeltaTable)) throw new LakeError('unsupported', `${name} is kept as ${table.format}; changes row by row are known of Delta tables only.`, { table: name });
    const pin = this.pins.get(name);
    const feed = new ChangeFeed(table, range.until === undefined && pin !== undefined ? { ...range, until: typeof pin === 'number' ? pin : pin.version } : range);
    const [snapshot, newest] = await Promise.all([feed.snapshot(), table.snapshot(LATEST)]);
    return { name, table: feed, storage, snapshot, past: snapshot.version !== newest.version, asOf: LATEST };
  }

  async #relation(name: readonly string[], right: Right): Promise<Relation> {
    if (name.length === 2) {
      demand(this.as, right, { namespace: name[0]!, name: name[1]! });
      return this.names.get(name[0]!, name[1]!);
    }
    const found = (await findByBareName(this.lake.database, name[0]!)).filter((each) => mayDo(this.as, 'see', each));
    if (found.length === 1) {
      demand(this.as, right, found[0]!);
      return found[0]!;
    }
    if (found.length === 0) throw new LakeError('not-found', `There is no table "${name[0]}" in the catalog.`, { hint: 'Tables are named namespace.table; files can be read as "storage:path/to/folder".' });
    throw new LakeError('bad-request', `"${name[0]}" is the name of several tables: ${found.map((each) => `${each.namespace}.${each.name}`).join(', ')}. Say which.`);
  }

  #view(relation: Relation, reference: TableReference, views: string[]): Promise<ResolvedQuery> {
    const name = `${relation.namespace}.${relation.name}`;
    if (reference.asOf.kind !== 'latest') throw new LakeError('bad-request', `${name} is a view; ask for the past of the tables that it reads instead.`);
    if (views.includes(name) || views.length >= MAX_VIEW_DEPTH) throw new LakeError('bad-request', `The view ${name} reads itself, by way of ${views.join(', ')}.`);
    const { sql, foreign, defaultNamespace, defaultCatalog, iceberg } = relation.definition as ViewDefinition;
    if (foreign) throw new LakeError('unsupported', `The view ${name} is written in the dialect ${foreign.dialect}, with ${foreign.problem}, which is not taken over here.`, { table: name, hint: 'The engine that made it can read it. To read it here, give it a representation in the dialect kind-harbor.' });
    return this.statements.read(sql).then((statement) => this.#resolve(statement, [...views, name], { defaultNamespace, defaultCatalog, isOutside: iceberg !== undefined }));
  }

  /** "default-catalog": the name of this catalog, as the engine that made the view has it, tells nothing here. */
  #inView(name: readonly string[], { defaultCatalog }: NamesInView): string[] {
    const [namespace = '', ...rest] = name;
    const prefix = `${defaultCatalog ?? ''}.`;
    const own = defaultCatalog !== undefined && rest.length > 0 && namespace.toLowerCase().startsWith(prefix.toLowerCase());
    return own ? [namespace.slice(prefix.length), ...rest] : [...name];
  }

  /** "default-namespace": where a view's names without a namespace are. */
  async #inDefaultNamespace([first, last]: readonly string[], { defaultNamespace, isOutside }: NamesInView): Promise<Relation | undefined> {
    if (last === undefined) return defaultNamespace === undefined ? undefined : this.#mayRead(defaultNamespace, first!);
    // Another engine has a name of its own for this catalog, which its views may begin names with.
    const cut = first!.indexOf('.');
    if (!isOutside || cut < 0) return undefined;
    return (await this.#mayRead(first!, last)) ?? this.#mayRead(first!.slice(cut + 1), last);
  }

  /** Undefined where there is none. */
  async #mayRead(namespace: string, name: string): Promise<Relation | undefined> {
    const found = await this.names.get(namespace, name).catch((error: unknown) => {
      if (error instanceof LakeError && error.kind === 'not-found') return undefined;
      throw error;
    });
    if (found) demand(this.as, 'read', found);
    return found;
  }

  #table(relation: Relation, asOf: AsOf): Promise<ResolvedTable> {
    const name = `${relation.namespace}.${relation.name}`;
    return this.#once(name, asOf, async () => ({ table: this.lake.table(relation), storage: this.lake.storageOf(relation) }));
  }

  #files(name: string, { asOf, options }: TableReference): Promise<ResolvedTable> {
    const read = options === undefined ? {} : filesRead(options);
    return this.#once(name, asOf, () => this.files.open(name, read), JSON.stringify(options));
  }

  #once(name: string, asOf: AsOf, open: () => Promise<{ table: LakeTable; storage: OpenStorage }>, how = ''): Promise<ResolvedTable> {
    const pin = this.pins.get(name);
    const opened = asOf.kind === 'latest' && typeof pin === 'object' ? pin : undefined;
    const wanted: AsOf = asOf.kind === 'latest' && typeof pin === 'number' ? { kind: 'number', number: BigInt(pin) } : asOf;
    const key = `${name} ${how} ${wanted.kind} ${wanted.kind === 'number' ? wanted.number : wanted.kind === 'time' ? wanted.at : wanted.kind === 'ref' ? wanted.name : ''}`;
    const known = this.#snapshots.get(key);
    if (known) return known;
    const opening = open().then(async ({ table, storage }) => {
      const snapshot = opened ?? (await table.snapshot(wanted));
      // A table whose newest version cannot be read is at an older one wherever it can.
      const latest = wanted.kind === 'latest' ? snapshot : await table.snapshot(LATEST).catch(() => undefined);
      return { name, table, storage, snapshot, past: latest?.version !== snapshot.version, asOf: wanted };
    });
    this.#snapshots.set(key, opening);
    return opening;
  }
}

/** The options of `files(…)` in SQL: `read_as` for saved ones, or a format with its own. */
function filesRead(given: Record<string, unknown>): FilesRead {
  const { readas, read_as: readAs = readas, ...rest } = given;
  if (readAs !== undefined) {
    if (Object.keys(rest).length > 0) throw new LakeError('bad-request', 'read_as takes saved options as they are; leave the other options out.');
    return { readWith: String(readAs) };
  }
  return Object.keys(rest).length === 0 ? {} : { options: checkOptions({ format: 'csv', ...optionsOfSql(rest) }) };
}
