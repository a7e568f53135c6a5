/** Tokens for programs, and how outside engines connect. */
import Joi from 'joi';
import { RIGHTS, type Grant } from '../access/access';
import type { Route } from '../http/routes';
import { ENDPOINTS } from '../iceberg-rest/router';
import type { Services } from '../services';

const MOST_GRANTS = 100;

export function accessRoutes(services: Services): Route[] {
  const { tokens, lake } = services;
  return [
    {
      method: 'get', path: '/access/tokens', summary: 'Tokens that were issued', answer: 'Each with its rights, and when it was last used; never the secret',
      handle: async () => ({ tokens: await tokens.list() }),
    },
    {
      method: 'post', path: '/access/tokens', summary: 'Issue a token with rights on everything, on namespaces, or on single tables and views', answer: 'The token; its text is given this once and is not stored',
      body: Joi.object({
        name: Joi.string().trim().min(1).max(100).required(),
        grants: Joi.array().items(Joi.object({ on: Joi.string().trim().min(1).max(400).required(), right: Joi.string().valid(...RIGHTS).required() })).min(1).max(MOST_GRANTS).required(),
        expiresAt: Joi.date().iso().greater('now').allow(null).default(null),
      }),
      handle: ({ body, who }) => {
        const { name, grants, expiresAt } = body as { name: string; grants: Grant[]; expiresAt: Date | null };
        return tokens.issue({ name, grants, expiresAt: expiresAt?.toISOString() ?? null }, who);
      },
    },
    {
      method: 'delete', path: '/access/tokens/{id}', summary: 'Revoke a token at once', answer: 'Nothing',
      params: Joi.object({ id: Joi.string().hex().length(16).required() }),
      handle: async ({ params, who }) => {
        await tokens.revoke(params.id!, who);
        return {};
      },
    },
    {
      method: 'get', path: '/access/connect', summary: 'What an engine that speaks the Iceberg REST catalog protocol must be told', answer: 'Path of the catalog and of its token endpoint, warehouses, endpoints',
      handle: async () => ({
        path: '/iceberg', tokenPath: '/iceberg/v1/oauth/tokens', endpoints: ENDPOINTS,
        warehouses: lake.storages().filter(({ storage }) => storage.kind !== 'postgres').map(({ storage, store }) => ({ name: storage.name, kind: storage.kind, uri: store.uri })),
      }),
    },
  ];
}
