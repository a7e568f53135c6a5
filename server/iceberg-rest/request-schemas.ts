/** What requests of the open REST catalog protocol must look like; the metadata inside is checked where it is applied. */
import Joi from 'joi';

const name = Joi.string().min(1).max(200).pattern(/^[^\p{Cc}/]+$/u, 'a name without control characters and slashes');
const texts = Joi.object().pattern(Joi.string(), Joi.string().allow(''));
const id = Joi.alternatives(Joi.number(), Joi.any().custom((value: unknown, helpers) => (typeof value === 'bigint' ? value : helpers.error('any.invalid'))));
const whole = Joi.number().integer();
const schema = Joi.object({ type: Joi.string().valid('struct').required(), fields: Joi.array().items(Joi.object({ id: whole.required(), name: Joi.string().required(), required: Joi.boolean().required(), type: Joi.any().required() }).unknown(true)).required() }).unknown(true);
const field = Joi.object({ 'source-id': whole, 'source-ids': Joi.array().items(whole).length(1), 'field-id': whole, name: Joi.string().required(), transform: Joi.string().required(), source_id: whole, field_id: whole }).or('source-id', 'source_id', 'source-ids').unknown(true);
const spec = Joi.object({ 'spec-id': whole, fields: Joi.array().items(field).required() }).unknown(true);
const order = Joi.object({
  'order-id': whole,
  fields: Joi.array().items(Joi.object({ 'source-id': whole, source_id: whole, transform: Joi.string().required(), direction: Joi.string().valid('asc', 'desc').required(), 'null-order': Joi.string().valid('nulls-first', 'nulls-last'), null_order: Joi.string().valid('nulls-first', 'nulls-last') }).or('source-id', 'source_id').unknown(true)).required(),
}).unknown(true);
const identifier = Joi.object({ namespace: Joi.array().items(Joi.string().required()).min(1).required(), name: name.required() });
const snapshot = Joi.object({
  'snapshot-id': id.required(), 'parent-snapshot-id': id.allow(null), 'sequence-number': whole, 'timestamp-ms': whole.required(), 'manifest-list': Joi.string().required(),
  summary: Joi.object({ operation: Joi.string().required() }).pattern(Joi.string(), Joi.string().allow('')).required(), 'schema-id': whole, 'first-row-id': whole, 'added-rows': whole,
}).unknown(true);
const statistics = Joi.object({ 'snapshot-id': id.required(), 'statistics-path': Joi.string().required() }).unknown(true);
const retention = { 'max-ref-age-ms': whole.positive(), 'max-snapshot-age-ms': whole.positive(), 'min-snapshots-to-keep': whole.positive() };

const viewVersion = Joi.object({
  'version-id': whole.required(), 'timestamp-ms': whole.required(), 'schema-id': whole.required(), summary: texts.required(), 'default-catalog': Joi.string(), 'default-namespace': Joi.array().items(Joi.string()).required(),
  representations: Joi.array().items(Joi.object({ type: Joi.string().valid('sql').required(), sql: Joi.string().required(), dialect: Joi.string().required() }).unknown(true)).min(1).required(),
}).unknown(true);

/** By action: what an update must have. */
const UPDATES: Record<string, Joi.PartialSchemaMap> = {
  'assign-uuid': { uuid: Joi.string().guid().required() },
  'upgrade-format-version': { 'format-version': whole.required() },
  'add-schema': { schema: schema.required(), 'last-column-id': whole },
  'set-current-schema': { 'schema-id': whole.required() },
  'add-spec': { spec: spec.required() },
  'set-default-spec': { 'spec-id': whole.required() },
  'add-sort-order': { 'sort-order': order.required() },
  'set-default-sort-order': { 'sort-order-id': whole.required() },
  'add-snapshot': { snapshot: snapshot.required() },
  'set-snapshot-ref': { 'ref-name': Joi.string().min(1).max(200).required(), type: Joi.string().valid('branch', 'tag').required(), 'snapshot-id': id.required(), ...retention },
  'remove-snapshots': { 'snapshot-ids': Joi.array().items(id).required() },
  'remove-snapshot-ref': { 'ref-name': Joi.string().required() },
  'set-location': { location: Joi.string().required() },
  'set-properties': { updates: texts.required() },
  'remove-properties': { removals: Joi.array().items(Joi.string()).required() },
  'set-statistics': { statistics: statistics.required(), 'snapshot-id': id },
  'remove-statistics': { 'snapshot-id': id.required() },
  'set-partition-statistics': { 'partition-statistics': statistics.required() },
  'remove-partition-statistics': { 'snapshot-id': id.required() },
  'remove-partition-specs': { 'spec-ids': Joi.array().items(whole).required() },
  'remove-schemas': { 'schema-ids': Joi.array().items(whole).required() },
  'add-encryption-key': {},
  'remove-encryption-key': {},
};
const VIEW_UPDATES: Record<string, Joi.PartialSchemaMap> = {
  'assign-uuid': UPDATES['assign-uuid']!, 'upgrade-format-version': UPDATES['upgrade-format-version']!, 'add-schema': UPDATES['add-schema']!, 'set-location': UPDATES['set-location']!, 'set-properties': UPDATES['set-properties']!, 'remove-properties': UPDATES['remove-properties']!,
  'add-view-version': { 'view-version': viewVersion.required() }, 'set-current-view-version': { 'view-version-id': whole.required() },
};
const REQUIREMENTS: Record<string, Joi.PartialSchemaMap> = {
  'assert-create': {},
  'assert-table-uuid': { uuid: Joi.string().required() },
  'assert-view-uuid': { uuid: Joi.string().required() },
  'assert-ref-snapshot-id': { ref: Joi.string().required(), 'snapshot-id': id.allow(null).default(null) },
  'assert-last-assigned-field-id': { 'last-assigned-field-id': whole.required() },
  'assert-current-schema-id': { 'current-schema-id': whole.required() },
  'assert-last-assigned-partition-id': { 'last-assigned-partition-id': whole.required() },
  'assert-default-spec-id': { 'default-spec-id': whole.required() },
  'assert-default-sort-order-id': { 'default-sort-order-id': whole.required() },
};

/** One of several shapes, told apart by the value of one key; the error then speaks of the shape that was meant. */
function oneOf(key: string, shapes: Record<string, Joi.PartialSchemaMap>): Joi.AlternativesSchema {
  const known = Object.entries(shapes).map(([value, shape]) => ({ is: value, then: Joi.object({ [key]: Joi.valid(value), ...shape }).unknown(true) }));
  const unknown = Joi.object({ [key]: Joi.string().valid(...Object.keys(shapes)).required() }).unknown(true);
  return Joi.alternatives().conditional(`.${key}`, { switch: [...known, { is: Joi.any(), then: unknown }] });
}

export const requests = {
  createNamespace: Joi.object({ namespace: Joi.array().items(Joi.string().required()).min(1).required(), properties: texts.default({}) }).unknown(true),
  changeProperties: Joi.object({ removals: Joi.array().items(Joi.string()).unique().default([]), updates: texts.default({}) }).unknown(true),
  createTable: Joi.object({ name: name.required(), location: Joi.string(), schema: schema.required(), 'partition-spec': spec.allow(null), 'write-order': order.allow(null), 'stage-create': Joi.boolean().default(false), properties: texts.default({}) }).unknown(true),
  register: Joi.object({ name: name.required(), 'metadata-location': Joi.string().required(), overwrite: Joi.boolean().default(false) }).unknown(true),
  commit: Joi.object({ identifier, requirements: Joi.array().items(oneOf('type', REQUIREMENTS)).default([]), updates: Joi.array().items(oneOf('action', UPDATES)).default([]), schema, 'partition-spec': spec, properties: texts }).unknown(true),
  transaction: Joi.object({ 'table-changes': Joi.array().items(Joi.object({ identifier: identifier.required(), requirements: Joi.array().items(oneOf('type', REQUIREMENTS)).required(), updates: Joi.array().items(oneOf('action', UPDATES)).required() }).unknown(true)).min(1).required() }).unknown(true),
  rename: Joi.object({ source: identifier.required(), destination: identifier.required() }).unknown(true),
  createView: Joi.object({ name: name.required(), location: Joi.string(), schema: schema.required(), 'view-version': viewVersion.required(), properties: texts.default({}) }).unknown(true),
  replaceView: Joi.object({ identifier, requirements: Joi.array().items(oneOf('type', REQUIREMENTS)).default([]), updates: Joi.array().items(oneOf('action', VIEW_UPDATES)).required() }).unknown(true),
  metrics: Joi.object({ 'report-type': Joi.string().required() }).unknown(true),
  page: Joi.object({ pageToken: Joi.string().allow(''), pageSize: whole.min(1).max(10_000), parent: Joi.string(), snapshots: Joi.string().valid('all', 'refs'), purgeRequested: Joi.boolean(), warehouse: Joi.string().allow('') }).unknown(true),
};

/** Clients may send null for what they leave out; where null has a meaning of its own it is what an absent key means too. */
export function withoutNulls(value: unknown): unknown {
  if (Array.isArray(value)) return value.map(withoutNulls);
  if (typeof value !== 'object' || value === null || Object.getPrototypeOf(value) !== Object.prototype) return value;
  return Object.fromEntries(Object.entries(value).filter(([, each]) => each !== null).map(([key, each]) => [key, withoutNulls(each)]));
}

export function checked<T>(shape: Joi.ObjectSchema, value: unknown): T {
  const { value: good, error } = shape.validate(withoutNulls(value) ?? {}, { abortEarly: false, convert: true });
  if (error) throw error;
  return good as T;
}
