-- +goose Up

-- What is usual for a series: what was learned of it, by hour of the week.
create table normal (
    series_id bigint primary key,
    until     timestamptz not null,
    profile   bytea not null
);

-- +goose Down
drop table normal;
