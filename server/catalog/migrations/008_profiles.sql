-- The last profile of each table, so that it need not be made again to be seen.
CREATE TABLE profile (
  relation_id integer PRIMARY KEY REFERENCES relation (id) ON DELETE CASCADE,
  result      jsonb NOT NULL
);
