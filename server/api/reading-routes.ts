/** Reading plain files as tables: saved options, tables over files, lines that do not fit. */
import Joi from 'joi';
import { LakeError } from '../../core/errors';
import { parseTypeName, typeName } from '../../core/schema/type-names';
import { findField, type Field } from '../../core/schema/types';
import { nameAsSql } from '../../core/sql/tokens';
import { fullPattern, type FolderDefinition, type PartitionException } from '../../core/folder/table';
import { TRUE } from '../../core/scan/predicate';
import { normalPath } from '../../core/storage/paths';
import { LATEST } from '../../core/table/contract';
import { createRelation, getRelation, nameOf, redefineRelation } from '../catalog/relations';
import { changeOptions, followersOf, forgetOptions, getSavedOptions, givenOptions, listSavedOptions, saveOptions } from '../catalog/saved-options';
import { tryOut } from '../crawl/correct';
import type { Route } from '../http/routes';
import { byPattern } from '../lake/files-as-table';
import { misfitsOf } from '../lake/misfits';
import { checkOptions, readOptionsBody } from '../lake/read-options-schema';
import type { Services } from '../services';
import { name, namespaceName, sqlName } from './schemas';

export function readingRoutes({ database, lake, files, inspector, events }: Services): Route[] {
  const optionsName = Joi.string().trim().min(1).max(200);
  const columns = Joi.array().items(Joi.object({ name: sqlName.required(), type: Joi.string().max(2000).required() })).max(5000);
  const tableParams = Joi.object({ namespace: name.required(), table: name.required() });
  const place = { storage: name.required(), pattern: Joi.string().trim().min(1).max(2000).required(), options: readOptionsBody, readWith: optionsName };
  const define = async (body: Record<string, unknown>) => {
    const storage = lake.storage(body.storage as string);
    const full = normalPath(body.pattern as string);
    const { definite } = await byPattern(storage, full);
    if (definite.files.length === 0) throw new LakeError('not-found', `No file of ${storage.storage.name} matches ${full}.`, { path: full });
    const found = await files.define(storage, definite, await givenOptions(database, body));
    const folder: FolderDefinition = { ...found, ...(body.readWith ? { readWith: (await getSavedOptions(database, body.readWith as string)).name } : {}) };
    return { storage, root: definite.root, files: definite.files, folder };
  };
  return [
    { method: 'get', path: '/read-options', summary: 'Read options saved under a name', answer: 'Options with the tables that follow them', handle: () => listSavedOptions(database) },
    {
      method: 'post', path: '/read-options', summary: 'Save read options under a name', answer: 'The saved options',
      body: Joi.object({ name: optionsName.required(), options: readOptionsBody.required() }),
      handle: async ({ body, who }) => {
        await saveOptions(database, body.name as string, checkOptions(body.options as Record<string, unknown>), who);
        return getSavedOptions(database, body.name as string);
      },
    },
    {
      method: 'patch', path: '/read-options/{name}', summary: 'Change saved read options; tables that follow are tried first, and nothing changes when one no longer reads', answer: 'The saved options',
      params: Joi.object({ name: optionsName.required() }), body: Joi.object({ options: readOptionsBody.required() }),
      handle: async ({ params, body, who }) => {
        const saved = await getSavedOptions(database, params.name!);
        const options = checkOptions(body.options as Record<string, unknown>);
        for (const each of await followersOf(database, saved.name)) {
          if (each.definition.kind === 'folder') await tryOut({ ...each.definition.folder, options }, each.name, each.location, lake.storage(each.storage), inspector);
        }
        await changeOptions(database, saved, options, who);
        events.tell({ topic: 'catalog' });
        return getSavedOptions(database, saved.name);
      },
    },
    {
      method: 'delete', path: '/read-options/{name}', summary: 'Forget saved read options; tables that followed keep them as they are', answer: 'The tables that followed',
      params: Joi.object({ name: optionsName.required() }),
      handle: async ({ params, who }) => {
        const saved = await getSavedOptions(database, params.name!);
        await forgetOptions(database, saved, who);
        events.tell({ topic: 'catalog' });
        return { forgotten: saved.name, tables: saved.tables };
      },
    },
    {
      method: 'post', path: '/files/define', summary: 'What a pattern of files would be as a table', answer: 'Columns and options, as found or as given',
      body: Joi.object(place),
      handle: async ({ body }) => {
        const { root, files: matching, folder } = await define(body);
        return { root, files: matching.length, bytes: matching.reduce((sum, file) => sum + file.bytes, 0), options: folder.options, columns: folder.fields.map((field) => ({ name: field.name, type: typeName(field.type), fromPath: folder.partitionColumns.includes(field.name) })) };
      },
    },
    {
      method: 'post', path: '/catalog', summary: 'Register a table over files that match a pattern; the files stay where they are', answer: 'The name of the table',
      body: Joi.object({ ...place, namespace: namespaceName.required(), name: sqlName.required(), description: Joi.string().trim().allow('').max(2000).default(''), columns }),
      handle: async ({ body, who }) => {
        const { storage, root, folder } = await define(body);
        const fullName = `${body.namespace as string}.${body.name as string}`;
        const asked = body.columns ? { ...folder, ...chosenColumns(folder, body.columns as { name: string; type: string }[]) } : folder;
        await tryOut(asked, fullName, root, storage, inspector);
        await createRelation(database, { namespace: body.namespace as string, name: body.name as string, kind: 'table', format: asked.options.format, storageId: storage.storage.id, location: root, definition: { kind: 'folder', folder: asked }, description: body.description as string }, who);
        events.tell({ topic: 'catalog' });
        return { table: fullName, pattern: fullPattern(root, asked) };
      },
    },
    {
      method: 'get', path: '/catalog/{namespace}/{table}/misfits', summary: 'Lines of a text table that do not fit how it is read', answer: 'How many of how many lines, and the first of them with the reason',
      params: tableParams,
      handle: async ({ params }) => {
        const relation = await getRelation(database, params.namespace!, params.table!);
        const snapshot = await lake.table(relation).snapshot(LATEST);
        return misfitsOf(inspector, lake.storageOf(relation), await snapshot.plan(TRUE));
      },
    },
    {
      method: 'put', path: '/catalog/{namespace}/{table}/partitions', summary: 'Hide partitions of a table over files, or read them from another folder; partitions that are not named come by the pattern', answer: 'The exceptions as they are now',
      params: tableParams,
      body: Joi.object({ exceptions: Joi.array().items(Joi.object({ values: Joi.object().pattern(Joi.string(), Joi.string().allow(null, '').max(1000)).min(1).required(), folder: Joi.string().max(2000).allow(null).required() })).max(1000).required() }),
      handle: async ({ params, body, who }) => {
        const relation = await getRelation(database, params.namespace!, params.table!);
        const fullName = nameOf(relation);
        if (relation.definition.kind !== 'folder') throw new LakeError('bad-request', `${fullName} is no table over plain files; its own metadata says where its partitions are.`, { table: fullName });
        const { folder } = relation.definition;
        const exceptions = (body.exceptions as PartitionException[]).map((each) => ({ ...each, folder: each.folder === null ? null : normalPath(each.folder) }));
        const twice = exceptions.find(({ folder: place }, n) => place !== null && exceptions.findIndex((other) => other.folder === place) < n);
        if (twice) throw new LakeError('bad-request', `Two partitions cannot both be read from ${twice.folder}.`);
        for (const { values, folder: place } of exceptions) {
          const unknown = Object.keys(values).find((name) => !folder.partitionColumns.includes(name));
          if (unknown) throw new LakeError('bad-request', `"${unknown}" is no column of the path of ${fullName}.`, { hint: `There are ${folder.partitionColumns.join(', ') || 'none'}.` });
          // Its files have no path to take the other values from.
          const missing = folder.partitionColumns.find((name) => !(name in values));
          if (place !== null && missing) throw new LakeError('bad-request', `A partition that is read from ${place} needs a value for ${missing} too.`);
          if (place !== null && !(await lake.storageOf(relation).store.hasFolder(place))) throw new LakeError('not-found', `There is no folder ${place} in ${relation.storage}.`, { path: place });
        }
        await redefineRelation(database, relation, { kind: 'folder', folder: { ...folder, exceptions } }, who);
        events.tell({ topic: 'catalog' });
        return { exceptions };
      },
    },
    {
      method: 'post', path: '/catalog/{namespace}/{table}/flat-view', summary: 'Register a view in which the parts of nested columns are columns of their own', answer: 'The view and its text',
      params: tableParams, body: Joi.object({ name: sqlName }),
      handle: async ({ params, body, who }) => {
        const relation = await getRelation(database, params.namespace!, params.table!);
        const { schema } = await lake.table(relation).snapshot(LATEST);
        if (!schema.fields.some((field) => field.type.kind === 'struct')) throw new LakeError('bad-request', `${relation.namespace}.${relation.name} has no nested column to be laid flat.`);
        const view = (body.name as string | undefined) ?? `${relation.name}_flat`;
        const sql = `SELECT ${flatColumns(schema.fields).join(',\n       ')}\nFROM ${nameAsSql(relation.namespace)}.${nameAsSql(relation.name)}`;
        await createRelation(database, { namespace: relation.namespace, name: view, kind: 'view', definition: { kind: 'view', sql }, description: `${relation.name} with the parts of nested columns as columns of their own.` }, who);
        events.tell({ topic: 'catalog' });
        return { view: `${relation.namespace}.${view}`, sql };
      },
    },
  ];
}

/** The found columns with other types, or by position other names where files do not name them; left out ones are not read. */
function chosenColumns(folder: FolderDefinition, columns: readonly { name: string; type: string }[]): { fields: Field[]; found: Field[] } {
  const positional = folder.options.format === 'csv' && !folder.options.header;
  const inFiles = folder.fields.filter((field) => !folder.partitionColumns.includes(field.name));
  const found: Field[] = [];
  const chosen = columns.map((column, index): Field => {
    const known = findField(folder.fields, column.name);
    if (!known && (!positional || index >= inFiles.length)) throw new LakeError('bad-request', `There is no column "${column.name}" in the files or the path.`, { hint: `There are ${folder.fields.map((field) => field.name).join(', ')}.` });
    found.push(known ?? inFiles[index]!);
    return { name: column.name, type: parseTypeName(column.type), required: false };
  });
  const twice = chosen.find((field, index) => findField(chosen.slice(0, index), field.name));
  if (twice) throw new LakeError('bad-request', `Two columns would be called "${twice.name}".`);
  if (positional && chosen.filter((field) => !folder.partitionColumns.includes(field.name)).length !== inFiles.length) throw new LakeError('bad-request', `The files have ${inFiles.length} columns without names; each needs one.`);
  return { fields: chosen, found: [...found, ...folder.fields.filter((each) => !found.includes(each))] };
}

/** `place.lat AS place_lat`; lists and maps stay as they are. */
function flatColumns(fields: readonly Field[], before: readonly string[] = []): string[] {
  return fields.flatMap((field) => {
    const path = [...before, field.name];
    if (field.type.kind === 'struct') return flatColumns(field.type.fields, path);
    return [path.length === 1 ? nameAsSql(field.name) : `${path.map(nameAsSql).join('.')} AS ${nameAsSql(path.join('_'))}`];
  });
}
