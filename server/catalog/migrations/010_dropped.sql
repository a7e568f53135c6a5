-- Managed tables that were dropped: their files wait in a trash folder of their storage until `keep_until`, and come back with what was known of the table.

CREATE TABLE dropped (
  id         serial PRIMARY KEY,
  namespace  text NOT NULL,
  name       text NOT NULL,
  storage_id integer NOT NULL REFERENCES storage (id) ON DELETE CASCADE,
  location   text NOT NULL,
  -- The folder in which the files wait.
  trash      text NOT NULL,
  -- The row of the table in `relation`, with its pointer.
  relation   jsonb NOT NULL,
  files      integer NOT NULL,
  bytes      bigint NOT NULL,
  who        text NOT NULL,
  dropped_at timestamptz NOT NULL DEFAULT now(),
  keep_until timestamptz NOT NULL
);
CREATE INDEX dropped_name ON dropped (lower(namespace), lower(name));
