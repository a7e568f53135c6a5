/** Corrections of single columns: their names, types and writing. */
import { LakeError } from '../../core/errors';
import type { ReadOptions } from '../../core/folder/read-options';
import type { FolderDefinition } from '../../core/folder/table';
import { parseTypeName, typeName } from '../../core/schema/type-names';
import { findField } from '../../core/schema/types';
import type { ValueForm } from '../../core/text/value-forms';
import type { Evidence } from '../catalog/findings';

/** `form`: how its texts are written; with `setAside` lines whose value does not fit are left out and counted. */
export interface ColumnCorrection {
  name: string;
  rename?: string;
  type?: string;
  form?: ValueForm;
  setAside?: boolean;
}

/** The definition with columns as somebody says. Fails with `bad-request` for a column that is not there, and for names that cannot be. */
export function correctColumns(folder: FolderDefinition, corrections: readonly ColumnCorrection[]): FolderDefinition {
  const positional = folder.options.format === 'csv' && !folder.options.header;
  const byName = new Map(corrections.map((each) => [each.name, each]));
  for (const { name } of corrections)
    if (!folder.fields.some((field) => field.name === name))
      throw new LakeError('bad-request', `There is no column "${name}" to correct.`);
  const fields = folder.fields.map((field) => {
    const { rename, type } = byName.get(field.name) ?? { name: field.name };
    if (
      rename !== undefined &&
      rename !== field.name &&
      (!positional || folder.partitionColumns.includes(field.name))
    ) {
      throw new LakeError(
        'bad-request',
        `"${field.name}" is found by its name in the files or the path, so it cannot be called otherwise here; a view can.`,
      );
    }
    return {
      ...field,
      ...(rename === undefined ? {} : { name: rename }),
      ...(type === undefined ? {} : { type: parseTypeName(type) }),
    };
  });
  const twice = fields.find((field, index) => findField(fields.slice(0, index), field.name));
  if (twice) throw new LakeError('bad-request', `Two columns would be called "${twice.name}".`);
  return { ...folder, fields, options: withCorrectedForms(folder.options, corrections) };
}

/** Another type has no use for the form of the one before. */
function withCorrectedForms(options: ReadOptions, corrections: readonly ColumnCorrection[]): ReadOptions {
  if (!('forms' in options)) return options;
  const forms = { ...options.forms };
  for (const { name, rename, type, form } of corrections) {
    if (type === undefined && form === undefined) continue;
    delete forms[name];
    if (form) forms[rename ?? name] = form;
  }
  return { ...options, forms, ...(corrections.some((each) => each.setAside) ? { misfits: 'set-aside' as const } : {}) };
}

/** `told`: columns whose type or writing somebody gave, so that nothing of it is open. */
export function renamedEvidence(
  columns: Evidence['columns'],
  before: FolderDefinition,
  after: FolderDefinition,
  told: ReadonlySet<string>,
): Evidence['columns'] {
  return columns.map((column) => {
    const now = after.fields[before.fields.findIndex((field) => field.name === column.name)];
    const { isAmbiguous: _, ...plain } = column;
    return now
      ? {
          ...(told.has(column.name) ? plain : column),
          name: now.name,
          type: typeName(now.type),
          clash: column.clash && typeName(now.type) === column.type,
        }
      : column;
  });
}
