-- +goose Up
create table source (
    id         bigint generated always as identity primary key,
    name       text not null unique,
    first_feed timestamptz not null,
    last_feed  timestamptz not null,
    received   timestamptz not null default now(),
    last_end   timestamptz -- end of its newest reading
);

create table object (
    id        bigint generated always as identity primary key,
    source_id bigint not null references source,
    kind      text not null,
    local_id  text not null,
    unique (source_id, kind, local_id)
);

-- What was true of an object from valid_from until valid_to, so that any moment can be rebuilt.
create table object_version (
    object_id  bigint not null references object,
    valid_from timestamptz not null,
    valid_to   timestamptz not null default 'infinity',
    name       text not null,
    facts      jsonb not null,
    links      jsonb not null,
    primary key (object_id, valid_from)
);
create index object_version_validity on object_version (valid_to, valid_from);

-- Rises with every change of the estate, so that replicas know when their picture is old.
create table estate_version (
    one     boolean primary key default true check (one),
    version bigint not null default 0
);
insert into estate_version default values;

create table series (
    id        bigint generated always as identity primary key,
    object_id bigint not null references object,
    metric    text not null,
    unique (object_id, metric)
);

-- One row per series and span of time. Readings of another interval or phase are rows of their own.
create table chunk (
    series_id bigint not null,
    span      timestamptz not null,
    step_ms   integer not null,
    phase_ms  integer not null,
    first     integer not null, -- index within the span of the first value
    count     integer not null,
    data      bytea not null,
    primary key (series_id, span, step_ms, phase_ms)
) partition by range (span);

create table histogram (
    object_id bigint not null,
    metric    text not null,
    starts    timestamptz not null,
    step_ms   integer not null,
    bounds    double precision[] not null,
    counts    double precision[] not null, -- a row of length(bounds)+1 per interval, one after another
    primary key (object_id, metric, starts, step_ms)
) partition by range (starts);

create table event (
    object_id bigint not null,
    at        timestamptz not null,
    what      text not null,
    detail    text not null,
    primary key (object_id, at, what)
);

create table account (
    id            bigint generated always as identity primary key,
    name          text not null unique,
    role          text not null check (role in ('viewer', 'operator', 'admin')),
    password_hash text not null, -- '' where it signs in by link only
    created       timestamptz not null default now()
);

-- Sessions, tokens and sign-in links are stored as SHA-256 of a random secret.
create table credential (
    hash       bytea primary key,
    account_id bigint not null references account on delete cascade,
    kind       text not null check (kind in ('session', 'token', 'link')),
    label      text not null default '',
    created    timestamptz not null default now(),
    used       timestamptz,
    expires    timestamptz not null
);
create index credential_account on credential (account_id, kind);

-- Small facts the service keeps about itself.
create table setting (
    name  text primary key,
    value text not null
);

-- +goose Down
drop table setting, credential, account, event, histogram, chunk, series, estate_version, object_version, object, source;
