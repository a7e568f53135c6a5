/** What the API process and the catalog process say to each other. */
export type CatalogAsk = { id: number; sql: string; params: unknown[] } | { id: number; script: string };
export type CatalogAnswer =
  | { id: number; rows: Record<string, unknown>[]; affected: number }
  | { id: number; failure: { message: string; code?: string; constraint?: string } };
