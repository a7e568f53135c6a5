/** Joi schemas shared by routes. */
import Joi from 'joi';

export const name = Joi.string().trim().min(1).max(200);
/** Stands in queries before a colon and in addresses, so it holds nothing that would need quoting there. */
export const storageName = Joi.string().trim().min(1).max(60).pattern(/^[\p{L}\p{N}][\p{L}\p{N}_-]*$/u, 'letters, digits, - and _');
/** A namespace, table or column: anything that can be quoted in SQL, without control characters. */
// eslint-disable-next-line no-control-regex
export const sqlName = Joi.string().trim().min(1).max(200).pattern(/^[^\x00-\x1f.]+$/, 'a name without dots');
/** Steps with dots between nest a namespace in another. */
// eslint-disable-next-line no-control-regex
export const namespaceName = Joi.string().trim().min(1).max(200).pattern(/^[^\x00-\x1f.]+(\.[^\x00-\x1f.]+)*$/, 'names with single dots between');
export const storagePath = Joi.string().allow('').max(2000).default('');
export const sqlText = Joi.string().max(200_000);
export const version = Joi.string().pattern(/^\d{1,19}$/, 'a version number');
export const isoTime = Joi.string().max(40);
/** In the one spelling by which it is known. */
export const id = Joi.string().lowercase().guid({ separator: '-' }).pattern(/^[^{[(]/, 'no brackets');
/** As far as the catalog counts. */
export const rowId = Joi.number().integer().positive().max(2_147_483_647);
