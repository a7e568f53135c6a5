/** What a person or a query may say about reading files, checked at the edge. */
import Joi from 'joi';
import { checkRuler, parseRuler, type RulerColumn } from '../../core/folder/column-ruler';
import { LakeError } from '../../core/errors';
import { COMPRESSIONS, fullOptions, groupNames, READ_FORMATS, type GivenOptions, type ReadFormat, type ReadOptions } from '../../core/folder/read-options';

const encoding = Joi.string().trim().lowercase().max(40).custom((label: string) => {
  try {
    return new TextDecoder(label).encoding;
  } catch {
    throw new Error(`"${label}" is not an encoding; utf-8, windows-1252, utf-16le or shift_jis are`);
  }
});
const text = { compression: Joi.string().valid(...COMPRESSIONS), encoding, misfits: Joi.string().valid('stop', 'set-aside') };
const someTexts = Joi.array().items(Joi.string().allow('').max(200)).max(50);
/** How the texts of one column are written. */
export const valueForm = Joi.object({
  missing: someTexts, formats: Joi.array().items(Joi.string().min(1).max(60)).max(10), months: Joi.string().pattern(/^[a-z]{2,3}$/),
  number: Joi.object({ decimal: Joi.string().valid('.', ',').required(), group: Joi.string().allow('').max(1).required(), marks: Joi.array().items(Joi.string().max(5)).max(5).required(), parentheses: Joi.boolean().required() }),
  booleans: Joi.object({ yes: someTexts.required(), no: someTexts.required() }), epoch: Joi.string().valid('s', 'ms', 'us', 'ns'),
});
const values = {
  ...text, skip: Joi.number().integer().min(0).max(100_000), comment: Joi.string().allow('').max(20), nullTexts: Joi.array().items(Joi.string().allow('').max(200)).max(50).single(), decimal: Joi.string().valid('.', ','),
  dateFormat: Joi.string().allow('').max(60), timestampFormat: Joi.string().allow('').max(60),
  forms: Joi.alternatives(Joi.string().max(1_000_000), Joi.object().pattern(Joi.string().max(1000), valueForm).max(5000)),
};
const mark = Joi.string().allow('').max(1);
const ruler = Joi.alternatives(Joi.string().max(100_000), Joi.array().items(Joi.object({ name: Joi.string().min(1).max(200).required(), from: Joi.number().integer().min(1).required(), to: Joi.number().integer().min(Joi.ref('from')).required() })).max(5000));

const BY_FORMAT: Record<ReadFormat, Joi.ObjectSchema> = {
  csv: Joi.object({ format: 'csv', delimiter: Joi.string().min(1).max(4), header: Joi.boolean(), headerLines: Joi.number().integer().min(1).max(5), quote: mark, escape: mark, skipEnd: Joi.number().integer().min(0).max(1000), pads: Joi.boolean(), rewrite: Joi.boolean(), perFile: Joi.boolean(), ...values }),
  fixed: Joi.object({ format: 'fixed', header: Joi.boolean(), columns: ruler.required(), ...values }),
  pattern: Joi.object({ format: 'pattern', pattern: Joi.string().min(1).max(5000).required(), ...values }),
  json: Joi.object({ format: 'json', shape: Joi.string().valid('lines', 'array', 'sequence', 'keyed', 'cells', 'features', 'values'), at: Joi.string().allow('').pattern(/^\//).max(1000), names: Joi.array().items(Joi.string().max(1000)).max(10_000), header: Joi.boolean(), key: Joi.string().allow('').max(200), syntax: Joi.string().valid('json', 'yaml', 'pairs'), ...text }),
  xml: Joi.object({ format: 'xml', record: Joi.string().allow('').max(200), lists: Joi.array().items(Joi.string()).max(1000), structs: Joi.array().items(Joi.string()).max(1000), compression: text.compression }),
  avro: Joi.object({ format: 'avro' }),
  arrow: Joi.object({ format: 'arrow' }),
  parquet: Joi.object({ format: 'parquet' }),
};

/** For request bodies; what each format takes is checked by `checkOptions`. */
export const readOptionsBody = Joi.object({ format: Joi.string().valid(...READ_FORMATS).required() }).unknown(true);

/** Full options, or `bad-request` saying which option is wrong. */
export function checkOptions(given: Record<string, unknown>): ReadOptions {
  const schema = BY_FORMAT[given.format as ReadFormat] as Joi.ObjectSchema | undefined;
  if (!schema) throw new LakeError('bad-request', `"${String(given.format)}" is not a way of reading files; ${READ_FORMATS.join(', ')} are.`);
  const { value, error } = schema.validate(given, { abortEarly: false }) as { value: GivenOptions; error?: Joi.ValidationError };
  if (error) throw new LakeError('bad-request', `How the files are read: ${error.details.map((each) => each.message.replace(/^"value" contains .*: /, '')).join('; ')}.`);
  if (typeof value.forms === 'string') return checkOptions({ ...value, forms: formsOf(value.forms) });
  if (value.format === 'pattern') groupNames(value.pattern as string);
  if (value.format !== 'fixed') return fullOptions(value);
  const columns = typeof value.columns === 'string' ? parseRuler(value.columns) : (value.columns as RulerColumn[]);
  checkRuler(columns);
  return fullOptions({ ...value, columns });
}

function formsOf(json: string): unknown {
  try {
    return JSON.parse(json);
  } catch {
    throw new LakeError('bad-request', 'How the files are read: forms is no JSON.');
  }
}

/** Option names as SQL has them: `null_texts` for nullTexts, in any case. */
export function optionsOfSql(given: Record<string, unknown>): Record<string, unknown> {
  const known = [...new Set(Object.values(BY_FORMAT).flatMap((schema) => Object.keys(schema.describe().keys as Record<string, unknown>)))];
  const plain = (name: string) => name.replaceAll('_', '').toLowerCase();
  return Object.fromEntries(Object.entries(given).map(([name, value]) => [known.find((each) => plain(each) === plain(name)) ?? name, value]));
}
