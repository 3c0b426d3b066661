-- +goose Up
ALTER TABLE site_copies DROP CONSTRAINT site_copies_why_check;
ALTER TABLE site_copies ADD CHECK (why IN ('replaced', 'moved', 'asked', 'retired'));
ALTER TABLE site_copies ADD COLUMN host_id bigint REFERENCES hosts;
ALTER TABLE site_copies ADD COLUMN place text NOT NULL DEFAULT '';
ALTER TABLE site_copies ADD COLUMN address text NOT NULL DEFAULT '';
ALTER TABLE site_copies ADD COLUMN secrets_sealed text NOT NULL DEFAULT '';
UPDATE site_copies c SET host_id = s.host_id FROM sites s WHERE s.id = c.site_id AND c.folder <> '';
-- +goose Down
DELETE FROM site_copies WHERE why = 'moved';
ALTER TABLE site_copies DROP COLUMN host_id, DROP COLUMN place, DROP COLUMN address, DROP COLUMN secrets_sealed;
ALTER TABLE site_copies DROP CONSTRAINT site_copies_why_check;
ALTER TABLE site_copies ADD CHECK (why IN ('replaced', 'asked', 'retired'));
