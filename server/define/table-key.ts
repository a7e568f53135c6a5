/** The columns that tell a table's rows apart: Iceberg keeps them in its schema, of other tables the catalog does. */
import { IcebergTable } from '../../core/iceberg/table';
import type { LakeTable } from '../../core/table/contract';
import type { Relation } from '../catalog/relations';

export async function keyOf(table: LakeTable, relation: Relation): Promise<string[]> {
  if (!(table instanceof IcebergTable)) return (relation.properties.key ?? '').split(',').map((each) => each.trim()).filter((each) => each !== '');
  const { metadata } = await table.current();
  const schema = metadata.schemas.find((each) => (each['schema-id'] ?? 0) === metadata['current-schema-id']);
  return (schema?.['identifier-field-ids'] ?? []).flatMap((id) => schema!.fields.find((each) => each.id === id)?.name ?? []);
}
