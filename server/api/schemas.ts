/** Joi schemas shared by routes. */
import Joi from 'joi';

export const name = Joi.string().trim().min(1).max(200);
export const storagePath = Joi.string().allow('').max(2000).default('');
export const sqlText = Joi.string().max(200_000);
export const version = Joi.string().pattern(/^\d{1,19}$/, 'a version number');
export const isoTime = Joi.string().max(40);
export const id = Joi.string().guid();
export const rowId = Joi.number().integer().positive();
