-- What people know of tables and columns, and the columns as they were last seen, for finding and comparing.
ALTER TABLE relation ADD COLUMN owner text NOT NULL DEFAULT '';
ALTER TABLE relation ADD COLUMN tags text[] NOT NULL DEFAULT '{}';
ALTER TABLE relation ADD COLUMN properties jsonb NOT NULL DEFAULT '{}';
-- Who vouches for it, why, since and until when.
ALTER TABLE relation ADD COLUMN vouched jsonb;
ALTER TABLE relation ADD COLUMN columns jsonb;
-- By column name: a description and tags.
ALTER TABLE relation ADD COLUMN notes jsonb NOT NULL DEFAULT '{}';
ALTER TABLE relation ADD COLUMN changed_at timestamptz NOT NULL DEFAULT now();
CREATE INDEX relation_changed ON relation (changed_at);

ALTER TABLE namespace ADD COLUMN owner text NOT NULL DEFAULT '';
ALTER TABLE namespace ADD COLUMN properties jsonb NOT NULL DEFAULT '{}';

-- The columns of each table and view as of a revision; null when it left the catalog.
CREATE TABLE relation_state (
  revision bigint NOT NULL REFERENCES revision (number),
  name     text NOT NULL,
  kind     text NOT NULL,
  columns  jsonb,
  PRIMARY KEY (name, revision)
);
