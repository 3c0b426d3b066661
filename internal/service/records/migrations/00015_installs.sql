-- Code that several sites of a host share, one folder for each release of it, and which of it a site shares or, as a safety copy, shared.
-- +goose Up
CREATE TABLE installs (
	id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
	name text NOT NULL UNIQUE,
	host_id bigint NOT NULL REFERENCES hosts,
	made_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE install_codes (
	id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
	install_id bigint NOT NULL REFERENCES installs,
	release_id bigint NOT NULL REFERENCES releases,
	run_id bigint NOT NULL,
	folder text NOT NULL,
	links jsonb NOT NULL,
	files bigint NOT NULL,
	bytes bigint NOT NULL,
	made_at timestamptz NOT NULL DEFAULT now(),
	UNIQUE (install_id, release_id)
);

ALTER TABLE sites ADD code_id bigint REFERENCES install_codes;
ALTER TABLE site_copies ADD code_id bigint REFERENCES install_codes;

-- +goose Down
ALTER TABLE site_copies DROP code_id;
ALTER TABLE sites DROP code_id;
DROP TABLE install_codes;
DROP TABLE installs;
