-- What only the catalog knows: names, pointers, what crawls saw, and what happened.

CREATE TABLE storage (
  id          integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  name        text NOT NULL,
  kind        text NOT NULL CHECK (kind IN ('folder')),
  location    text NOT NULL,
  created_at  timestamptz NOT NULL DEFAULT now()
);
CREATE UNIQUE INDEX storage_name ON storage (lower(name));

CREATE TABLE namespace (
  id          integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  name        text NOT NULL,
  description text NOT NULL DEFAULT '',
  created_at  timestamptz NOT NULL DEFAULT now()
);
CREATE UNIQUE INDEX namespace_name ON namespace (lower(name));

-- A table or a view. For Iceberg tables that we own, `pointer` is the path of the current metadata file.
CREATE TABLE relation (
  id           integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  namespace_id integer NOT NULL REFERENCES namespace (id),
  name         text NOT NULL,
  kind         text NOT NULL CHECK (kind IN ('table', 'view')),
  format       text,
  storage_id   integer REFERENCES storage (id),
  location     text,
  managed      boolean NOT NULL DEFAULT false,
  pointer      text,
  definition   jsonb NOT NULL DEFAULT '{}',
  description  text NOT NULL DEFAULT '',
  created_at   timestamptz NOT NULL DEFAULT now()
);
CREATE UNIQUE INDEX relation_name ON relation (namespace_id, lower(name));
CREATE INDEX relation_location ON relation (storage_id, location);

-- Every change of the catalog, in order.
CREATE TABLE revision (
  number  bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  at      timestamptz NOT NULL DEFAULT now(),
  who     text NOT NULL,
  action  text NOT NULL,
  subject text NOT NULL,
  details jsonb NOT NULL DEFAULT '{}'
);

-- The listings of plain folders that differed from the one before.
CREATE TABLE folder_listing (
  storage_id integer NOT NULL REFERENCES storage (id),
  location   text NOT NULL,
  version    integer NOT NULL,
  at         timestamptz NOT NULL,
  files      jsonb NOT NULL,
  PRIMARY KEY (storage_id, location, version)
);

-- What each query and each write read and wrote.
CREATE TABLE receipt (
  id         uuid PRIMARY KEY,
  at         timestamptz NOT NULL DEFAULT now(),
  who        text NOT NULL,
  kind       text NOT NULL CHECK (kind IN ('query', 'write')),
  outcome    text NOT NULL CHECK (outcome IN ('done', 'failed', 'cancelled')),
  sql        text NOT NULL,
  tables     jsonb NOT NULL,
  written    jsonb,
  row_count  bigint,
  plan_ms    double precision,
  engine_ms  double precision,
  total_ms   double precision,
  problem    text
);
CREATE INDEX receipt_at ON receipt (at DESC);

CREATE TABLE job (
  id          uuid PRIMARY KEY,
  kind        text NOT NULL,
  title       text NOT NULL,
  state       text NOT NULL CHECK (state IN ('running', 'done', 'failed', 'cancelled', 'interrupted')),
  who         text NOT NULL,
  started_at  timestamptz NOT NULL,
  finished_at timestamptz,
  done        bigint NOT NULL DEFAULT 0,
  total       bigint,
  message     text NOT NULL DEFAULT '',
  log         jsonb NOT NULL DEFAULT '[]',
  result      jsonb
);
CREATE INDEX job_started ON job (started_at DESC);

CREATE TABLE crawl (
  id         integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  storage_id integer NOT NULL REFERENCES storage (id),
  folder     text NOT NULL,
  created_at timestamptz NOT NULL DEFAULT now(),
  UNIQUE (storage_id, folder)
);

CREATE TABLE crawl_run (
  id          integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  crawl_id    integer NOT NULL REFERENCES crawl (id),
  job_id      uuid,
  started_at  timestamptz NOT NULL,
  finished_at timestamptz,
  files       integer NOT NULL DEFAULT 0,
  opened      integer NOT NULL DEFAULT 0
);

-- What one run found. Nothing here counts until it is registered.
CREATE TABLE finding (
  id          integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  run_id      integer NOT NULL REFERENCES crawl_run (id),
  location    text NOT NULL,
  namespace   text NOT NULL,
  name        text NOT NULL,
  status      text NOT NULL CHECK (status IN ('new', 'changed', 'unchanged', 'clash', 'no-shape', 'unreadable')),
  decision    text NOT NULL CHECK (decision IN ('register', 'leave-out', 'undecided', 'registered')),
  format      text,
  summary     text NOT NULL,
  files       integer NOT NULL,
  bytes       bigint NOT NULL,
  rows        bigint,
  definition  jsonb,
  evidence    jsonb NOT NULL,
  relation_id integer REFERENCES relation (id) ON DELETE SET NULL
);
CREATE INDEX finding_run ON finding (run_id);

-- What a file said of itself when a crawl opened it; good while size and modified time stay.
CREATE TABLE seen_file (
  storage_id integer NOT NULL REFERENCES storage (id),
  path       text NOT NULL,
  bytes      bigint NOT NULL,
  modified   bigint NOT NULL,
  facts      jsonb NOT NULL,
  PRIMARY KEY (storage_id, path)
);
