-- +goose Up
UPDATE sites SET result = result - 'house' || jsonb_build_object('adjustments', result->'house') WHERE result ? 'house';
UPDATE site_copies SET result = result - 'house' || jsonb_build_object('adjustments', result->'house') WHERE result ? 'house';

-- +goose Down
UPDATE sites SET result = result - 'adjustments' || jsonb_build_object('house', result->'adjustments') WHERE result ? 'adjustments';
UPDATE site_copies SET result = result - 'adjustments' || jsonb_build_object('house', result->'adjustments') WHERE result ? 'adjustments';
