-- +goose Up
CREATE TABLE users (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  name text NOT NULL UNIQUE,
  role text NOT NULL CHECK (role IN ('owner', 'builder', 'viewer')),
  password_hash text NOT NULL,
  created_at timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE tokens (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  user_id bigint NOT NULL REFERENCES users ON DELETE CASCADE,
  name text NOT NULL,
  hash bytea NOT NULL UNIQUE,
  created_at timestamptz NOT NULL DEFAULT now(),
  used_at timestamptz
);
CREATE TABLE sessions (
  hash bytea PRIMARY KEY,
  user_id bigint NOT NULL REFERENCES users ON DELETE CASCADE,
  expires_at timestamptz NOT NULL
);
CREATE TABLE hosts (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  name text NOT NULL UNIQUE,
  files text NOT NULL,
  web_root text NOT NULL,
  address text NOT NULL,
  database text NOT NULL,
  connect text NOT NULL DEFAULT '',
  created_at timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE sources (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  name text NOT NULL UNIQUE,
  host_id bigint NOT NULL REFERENCES hosts,
  path text NOT NULL,
  kind text NOT NULL,
  version text NOT NULL,
  address text NOT NULL,
  database text NOT NULL DEFAULT '',
  created_at timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE surveys (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  source_id bigint NOT NULL REFERENCES sources ON DELETE CASCADE,
  taken_at timestamptz NOT NULL,
  survey jsonb NOT NULL,
  files bytea NOT NULL
);
CREATE INDEX ON surveys (source_id, taken_at DESC);
CREATE TABLE starters (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  name text NOT NULL UNIQUE,
  source_id bigint NOT NULL REFERENCES sources,
  list text NOT NULL,
  created_at timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE runs (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  sort text NOT NULL,
  title text NOT NULL,
  target text NOT NULL,
  status text NOT NULL DEFAULT 'waiting' CHECK (status IN ('waiting', 'working', 'done', 'failed', 'cancelled')),
  who text NOT NULL,
  args jsonb NOT NULL,
  progress jsonb NOT NULL DEFAULT '{}',
  result jsonb,
  error text NOT NULL DEFAULT '',
  cancel_asked boolean NOT NULL DEFAULT false,
  created_at timestamptz NOT NULL DEFAULT now(),
  started_at timestamptz,
  ended_at timestamptz
);
CREATE INDEX ON runs (status) WHERE status IN ('waiting', 'working');
CREATE TABLE run_log (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  run_id bigint NOT NULL REFERENCES runs ON DELETE CASCADE,
  at timestamptz NOT NULL DEFAULT now(),
  sentence text NOT NULL
);
CREATE INDEX ON run_log (run_id, id);
CREATE TABLE run_journal (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  run_id bigint NOT NULL REFERENCES runs ON DELETE CASCADE,
  made jsonb NOT NULL
);
CREATE TABLE releases (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  starter_id bigint NOT NULL REFERENCES starters,
  number integer NOT NULL,
  archive text NOT NULL,
  archive_bytes bigint NOT NULL,
  sums_sha256 text NOT NULL,
  manifest jsonb NOT NULL,
  run_id bigint REFERENCES runs,
  verified_at timestamptz,
  faults integer NOT NULL DEFAULT 0,
  UNIQUE (starter_id, number)
);
CREATE TABLE clients (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  name text NOT NULL UNIQUE,
  settings jsonb NOT NULL DEFAULT '{}',
  created_at timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE sites (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  name text NOT NULL UNIQUE,
  client_id bigint NOT NULL REFERENCES clients,
  host_id bigint NOT NULL REFERENCES hosts,
  release_id bigint NOT NULL REFERENCES releases,
  run_id bigint NOT NULL REFERENCES runs,
  address text NOT NULL UNIQUE,
  folder text NOT NULL,
  plan jsonb NOT NULL,
  result jsonb NOT NULL,
  report jsonb,
  made_at timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE secrets (
  noun text NOT NULL,
  owner text NOT NULL,
  name text NOT NULL,
  sealed bytea NOT NULL,
  created_at timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (noun, owner, name)
);
CREATE TABLE audit (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  at timestamptz NOT NULL DEFAULT now(),
  who text NOT NULL,
  what text NOT NULL
);
-- +goose Down
DROP TABLE audit, secrets, sites, clients, releases, run_journal, run_log, runs, starters, surveys, sources, hosts, sessions, tokens, users;
