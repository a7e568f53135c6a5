-- Storages elsewhere: their settings, and their keys sealed with the key of the data folder.
ALTER TABLE storage DROP CONSTRAINT storage_kind_check;
ALTER TABLE storage ADD CONSTRAINT storage_kind_check CHECK (kind IN ('folder', 's3'));
ALTER TABLE storage ADD COLUMN settings jsonb;
ALTER TABLE storage ADD COLUMN secret text;
