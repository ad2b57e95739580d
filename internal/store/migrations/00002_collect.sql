-- +goose Up

-- Readings that came in since they were last packed into chunks: a row holds an interval or a few of up to 256 series,
-- so that a source asked every 20 s costs a few rows each time and not one for each of its series.
create table tail (
    seq     bigint generated always as identity primary key,
    page    bigint not null, -- series id / 256
    starts  timestamptz not null,
    step_ms integer not null,
    count   integer not null, -- intervals of each series
    data    bytea not null -- 256 bits that say which series, then their values one series after another
);
create index tail_page on tail (page, starts);

-- Rises with every change of what the source lists.
alter table source add column stamp bigint not null default 0;

-- Where the service collects by itself.
create table connection (
    name        text primary key, -- also the source's name
    kind        text not null,
    address     text not null,
    interval_ms integer not null,
    pin         text not null default '',
    authorities text not null default '',
    secret      bytea, -- encrypted with the service's key file; null where there is none
    paused      boolean not null default false,
    created     timestamptz not null default now(),
    created_by  text not null,
    revision    bigint not null default 1, -- rises with every change but those of health
    health      jsonb not null default '{}'
);

-- +goose Down
drop table connection, tail;
alter table source drop column stamp;
