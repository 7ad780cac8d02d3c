-- +goose Up
-- What all devices draw is looked for by the name of the series.
ALTER TABLE series ADD KEY IF NOT EXISTS name (name);
