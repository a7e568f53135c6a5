/**
 * What only the catalog knows, as one JSON document: names, places, descriptions, corrections, trust. With it and the
 * lake a catalog is built again; kept in version control it shows who changed what. Its schema is published.
 */
import { isDeepStrictEqual } from 'node:util';
import Joi from 'joi';
import { LakeError } from '../../core/errors';
import type { TableFormat } from '../../core/table/contract';
import type { CrawlDefinition } from '../../core/crawl/definition';
import type { ReadOptions } from '../../core/folder/read-options';
import { createCrawl, listCrawls } from './crawls';
import type { Database } from './database';
import { annotateRelation, createRelation, ensureNamespace, findRelation, listNamespaces, listRelations, nameOf, readPointer, redefineRelation, type ColumnNote, type Relation, type RelationDefinition, type Vouched } from './relations';
import { listSavedOptions, saveOptions } from './saved-options';
import { listStorages } from './storages';

export const DOCUMENT_VERSION = 1;

export interface CatalogDocument {
  document: 'catalog';
  version: number;
  exportedAt: string;
  namespaces: { name: string; description: string; owner: string; properties: Record<string, string>; storage: string | null; folder: string | null }[];
  relations: DocumentRelation[];
  readOptions: { name: string; options: ReadOptions }[];
  crawls: { name: string; definition: CrawlDefinition }[];
}

interface DocumentRelation {
  namespace: string;
  name: string;
  kind: 'table' | 'view';
  format: TableFormat | null;
  storage: string | null;
  location: string | null;
  managed: boolean;
  /** Of an Iceberg table whose current metadata file the catalog alone knows: that file. */
  pointer: string | null;
  definition: RelationDefinition;
  description: string;
  owner: string;
  tags: string[];
  properties: Record<string, string>;
  vouched: Vouched | null;
  notes: Record<string, ColumnNote>;
}

const text = Joi.string().allow('');
const texts = Joi.object().pattern(Joi.string(), text);
export const documentSchema = Joi.object({
  document: Joi.string().valid('catalog').required(), version: Joi.number().valid(DOCUMENT_VERSION).required(), exportedAt: Joi.string().required(),
  namespaces: Joi.array().items(Joi.object({ name: Joi.string().required(), description: text.default(''), owner: text.default(''), properties: texts.default({}), storage: text.allow(null).default(null), folder: text.allow(null).default(null) })).required(),
  relations: Joi.array().items(Joi.object({
    namespace: Joi.string().required(), name: Joi.string().required(), kind: Joi.string().valid('table', 'view').required(), format: Joi.string().allow(null).required(), storage: text.allow(null).required(), location: text.allow(null).required(),
    managed: Joi.boolean().required(), pointer: text.allow(null).default(null), definition: Joi.object({ kind: Joi.string().valid('folder', 'lake', 'view', 'source').required() }).unknown(true).required(),
    description: text.default(''), owner: text.default(''), tags: Joi.array().items(Joi.string()).default([]), properties: texts.default({}),
    vouched: Joi.object({ who: Joi.string().required(), why: Joi.string().required(), since: Joi.string().required(), until: Joi.string().required() }).allow(null).default(null),
    notes: Joi.object().pattern(Joi.string(), Joi.object({ description: text.required(), tags: Joi.array().items(Joi.string()).required() })).default({}),
  })).required(),
  readOptions: Joi.array().items(Joi.object({ name: Joi.string().required(), options: Joi.object().unknown(true).required() })).default([]),
  crawls: Joi.array().items(Joi.object({ name: Joi.string().required(), definition: Joi.object().unknown(true).required() })).default([]),
}).meta({ title: 'A catalog' });

/** In the order of names, so that two documents can be compared line by line. */
export async function exportCatalog(database: Database, now: string): Promise<CatalogDocument> {
  const [namespaces, relations, readOptions, crawls] = await Promise.all([listNamespaces(database), listRelations(database), listSavedOptions(database), listCrawls(database)]);
  return {
    document: 'catalog', version: DOCUMENT_VERSION, exportedAt: now,
    namespaces: namespaces.map(({ name, description, owner, properties, storage, folder }) => ({ name, description, owner, properties, storage, folder })),
    relations: await Promise.all(relations.map(async (relation) => asDocument(relation, (await readPointer(database, relation.id)) ?? null))),
    readOptions: readOptions.map(({ name, options }) => ({ name, options })),
    crawls: crawls.map(({ name, definition }) => ({ name, definition })),
  };
}

function asDocument({ namespace, name, kind, format, storage, location, managed, definition, description, owner, tags, properties, vouched, notes }: Relation, pointer: string | null): DocumentRelation {
  return { namespace, name, kind, format, storage, location, managed, pointer, definition, description, owner, tags, properties, vouched, notes };
}

export interface Imported {
  created: string[];
  updated: string[];
  /** What could not be taken in, and why. */
  left: { name: string; why: string }[];
}

/** Takes in what is not there, and brings what people know of the rest up to the document. Nothing is taken out. */
export async function importCatalog(database: Database, given: unknown, who: string): Promise<Imported> {
  const { value, error } = documentSchema.validate(given, { abortEarly: false }) as { value: CatalogDocument; error?: Joi.ValidationError };
  if (error) throw new LakeError('bad-request', `This is no catalog document: ${error.details.slice(0, 5).map((each) => each.message).join('; ')}.`);
  const imported: Imported = { created: [], updated: [], left: [] };
  const storages = new Map((await listStorages(database)).map((storage) => [storage.name.toLowerCase(), storage.id]));
  for (const each of value.namespaces) {
    const id = await database.transaction((sql) => ensureNamespace(sql, each.name, who, each.description));
    const storageId = each.storage === null ? null : (storages.get(each.storage.toLowerCase()) ?? null);
    await database.query('UPDATE namespace SET description = $2, owner = $3, properties = $4, storage_id = $5, folder = CASE WHEN $5::int IS NULL THEN NULL ELSE $6 END WHERE id = $1', [id, each.description, each.owner, JSON.stringify(each.properties), storageId, each.folder]);
  }
  for (const each of value.relations) {
    try {
      imported[await importRelation(database, each, storages, who)].push(nameOf(each));
    } catch (problem) {
      if (!(problem instanceof LakeError)) throw problem;
      imported.left.push({ name: nameOf(each), why: problem.message });
    }
  }
  const [options, crawls] = await Promise.all([listSavedOptions(database), listCrawls(database)]);
  for (const each of value.readOptions) if (!options.some((known) => known.name === each.name && isSame(known.options, each.options))) await saveOptions(database, each.name, each.options, who).catch(leave(imported, each.name));
  for (const each of value.crawls) if (!crawls.some((known) => known.name === each.name && isSame(known.definition, each.definition))) await createCrawl(database, each.name, each.definition, who).catch(leave(imported, each.name));
  return imported;
}

/** What is there under that name already stays as it is. */
function leave(imported: Imported, name: string): (error: unknown) => void {
  return (error) => {
    if (!(error instanceof LakeError)) throw error;
    imported.left.push({ name, why: error.message });
  };
}

async function importRelation(database: Database, each: DocumentRelation, storages: ReadonlyMap<string, number>, who: string): Promise<'created' | 'updated'> {
  const known = await findRelation(database, each.namespace, each.name);
  if (!known) {
    const storageId = each.storage === null ? undefined : storages.get(each.storage.toLowerCase());
    if (each.storage !== null && storageId === undefined) throw new LakeError('not-found', `It lies in the storage "${each.storage}", which is not connected here.`);
    const id = await createRelation(database, { ...each, format: each.format ?? undefined, location: each.location ?? undefined, storageId } as Parameters<typeof createRelation>[1], who);
    if (each.pointer !== null) await database.query('UPDATE relation SET pointer = $2 WHERE id = $1', [id, each.pointer]);
  } else if (known.kind !== each.kind || known.location !== each.location || known.storage !== each.storage) {
    throw new LakeError('conflict', 'Another table or view has this name here.');
  } else if (!isSame(known.definition, each.definition) && each.definition.kind !== 'lake') await redefineRelation(database, known, each.definition, who);
  const relation = (await findRelation(database, each.namespace, each.name))!;
  const { description, owner, tags, properties, vouched, notes } = each;
  const isKnown = [description, owner, tags, properties, vouched, notes].every((value, index) => isSame(value, [relation.description, relation.owner, relation.tags, relation.properties, relation.vouched, relation.notes][index]));
  if (!isKnown) await annotateRelation(database, relation, { description, owner, tags, properties, vouched, notes }, who);
  return known ? 'updated' : 'created';
}

/** Equal as JSON, in whatever order their keys stand. */
function isSame(a: unknown, b: unknown): boolean {
  return isDeepStrictEqual(JSON.parse(JSON.stringify(a)), JSON.parse(JSON.stringify(b)));
}
