-- How people corrected the reading of columns, for files that look alike: of the same format, with columns of the same names.
CREATE TABLE correction (
  alike text NOT NULL,
  column_name text NOT NULL,
  correction jsonb NOT NULL,
  place text NOT NULL,
  who text NOT NULL,
  at timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (alike, column_name)
);
