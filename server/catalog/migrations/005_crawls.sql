-- Crawls have names and rules; one may look at several folders, in several storages.
ALTER TABLE crawl ADD COLUMN name text;
ALTER TABLE crawl ADD COLUMN definition jsonb;
ALTER TABLE crawl ADD COLUMN who text NOT NULL DEFAULT '';
UPDATE crawl c SET
  name = s.name || CASE WHEN c.folder = '' THEN '' ELSE '/' || c.folder END,
  definition = jsonb_build_object('folders', jsonb_build_array(jsonb_build_object('storage', s.name, 'folder', c.folder, 'include', '[]'::jsonb, 'exclude', '[]'::jsonb)),
    'namespace', '', 'prefix', '', 'naming', 'folder', 'sample', 16, 'findings', 'ask', 'schedule', NULL)
FROM storage s WHERE s.id = c.storage_id;
ALTER TABLE crawl ALTER COLUMN name SET NOT NULL;
ALTER TABLE crawl ALTER COLUMN definition SET NOT NULL;
CREATE UNIQUE INDEX crawl_name ON crawl (lower(name));

ALTER TABLE crawl_run ADD COLUMN asked_at timestamptz;
ALTER TABLE crawl_run ADD COLUMN who text NOT NULL DEFAULT '';
ALTER TABLE crawl_run ADD COLUMN cause text NOT NULL DEFAULT 'asked' CHECK (cause IN ('asked', 'schedule', 'restart'));
ALTER TABLE crawl_run ADD COLUMN added integer NOT NULL DEFAULT 0;
ALTER TABLE crawl_run ADD COLUMN problem text;
UPDATE crawl_run SET asked_at = started_at;

-- A finding knows its own storage, the place it stands for (a folder, or a pattern of files), and a digest of its files.
ALTER TABLE finding ADD COLUMN storage_id integer REFERENCES storage (id);
ALTER TABLE finding ADD COLUMN place text NOT NULL DEFAULT '';
ALTER TABLE finding ADD COLUMN digest text NOT NULL DEFAULT '';
UPDATE finding f SET storage_id = c.storage_id, place = f.location FROM crawl_run r JOIN crawl c ON c.id = r.crawl_id WHERE r.id = f.run_id;
ALTER TABLE finding ALTER COLUMN storage_id SET NOT NULL;
ALTER TABLE finding DROP CONSTRAINT finding_status_check;
ALTER TABLE finding ADD CONSTRAINT finding_status_check CHECK (status IN ('new', 'changed', 'unchanged', 'clash', 'no-shape', 'unreadable', 'gone'));
ALTER TABLE finding DROP CONSTRAINT finding_decision_check;
ALTER TABLE finding ADD CONSTRAINT finding_decision_check CHECK (decision IN ('register', 'leave-out', 'leave-out-always', 'undecided', 'registered', 'unregistered'));
ALTER TABLE crawl DROP COLUMN storage_id;
ALTER TABLE crawl DROP COLUMN folder;

-- What files say of themselves is mostly the same, so it is kept once.
DROP TABLE seen_file;
CREATE TABLE seen_shape (
  hash  text PRIMARY KEY,
  facts jsonb NOT NULL
);
-- A row holds files of one folder; of a file that is in several the newest counts.
CREATE TABLE seen_file (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  storage_id integer NOT NULL REFERENCES storage (id),
  folder     text NOT NULL,
  read_as    text NOT NULL,
  shapes     text[] NOT NULL,
  files      jsonb NOT NULL
);
CREATE INDEX seen_file_folder ON seen_file (storage_id, folder text_pattern_ops);

-- Every change of columns or types that a crawl saw in a registered table, and what was done about it.
CREATE TABLE drift (
  id          integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  relation_id integer REFERENCES relation (id) ON DELETE SET NULL,
  table_name  text NOT NULL,
  run_id      integer NOT NULL REFERENCES crawl_run (id),
  at          timestamptz NOT NULL DEFAULT now(),
  kind        text NOT NULL,
  column_name text NOT NULL,
  before      text,
  after       text,
  files       jsonb NOT NULL DEFAULT '[]',
  done        text NOT NULL DEFAULT 'open' CHECK (done IN ('open', 'taken over', 'left as it was')),
  done_by     text,
  done_at     timestamptz
);
CREATE INDEX drift_table ON drift (lower(table_name), at DESC);

-- A namespace may belong to a folder: tables found below it are put there.
ALTER TABLE namespace ADD COLUMN storage_id integer REFERENCES storage (id);
ALTER TABLE namespace ADD COLUMN folder text;
