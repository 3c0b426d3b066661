-- A check has a result.
-- +goose Up
UPDATE sites SET report = replace(report::text, '"verdict": ', '"result": ')::jsonb,
  result = replace(result::text, '"verdict": ', '"result": ')::jsonb;
UPDATE site_copies SET report = replace(report::text, '"verdict": ', '"result": ')::jsonb,
  result = replace(result::text, '"verdict": ', '"result": ')::jsonb;
UPDATE runs SET result = replace(result::text, '"verdict": ', '"result": ')::jsonb WHERE result::text LIKE '%"verdict": %';

-- +goose Down
UPDATE sites SET report = replace(report::text, '"result": "', '"verdict": "')::jsonb,
  result = replace(result::text, '"result": "', '"verdict": "')::jsonb;
UPDATE site_copies SET report = replace(report::text, '"result": "', '"verdict": "')::jsonb,
  result = replace(result::text, '"result": "', '"verdict": "')::jsonb;
UPDATE runs SET result = replace(result::text, '"result": "', '"verdict": "')::jsonb WHERE result::text LIKE '%"result": "%';
