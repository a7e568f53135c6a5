-- Queries that somebody gave a name.
CREATE TABLE saved_query (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  name text NOT NULL,
  sql text NOT NULL,
  who text NOT NULL,
  changed_at timestamptz NOT NULL DEFAULT now()
);
CREATE UNIQUE INDEX saved_query_name ON saved_query (lower(name));
-- Who read a table is asked by its name.
CREATE INDEX receipt_tables ON receipt USING gin (tables jsonb_path_ops);
