-- Ways of reading files, saved under a name. Tables that follow one hold a copy and its name in their definition.
CREATE TABLE read_option (
  id      integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  name    text NOT NULL,
  options jsonb NOT NULL,
  who     text NOT NULL,
  at      timestamptz NOT NULL DEFAULT now()
);
CREATE UNIQUE INDEX read_option_name ON read_option (lower(name));

-- Several tables may stand over one folder, so a folder's listings are kept by the whole pattern.
UPDATE folder_listing l SET location = CASE WHEN l.location = '' THEN '' ELSE l.location || '/' END || (r.definition->'folder'->>'pattern')
FROM relation r WHERE r.storage_id = l.storage_id AND r.location = l.location AND r.definition->'folder' IS NOT NULL;
