-- Connected databases stand beside storages: their schemas are folders, their tables files.
ALTER TABLE storage DROP CONSTRAINT storage_kind_check;
ALTER TABLE storage ADD CONSTRAINT storage_kind_check CHECK (kind IN ('folder', 's3', 'postgres'));
