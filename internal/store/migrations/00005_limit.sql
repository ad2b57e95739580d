-- +goose Up

-- What people changed about limits. A change stays when it no longer holds.
create table limit_rule (
    id        bigint generated always as identity primary key,
    kind      text not null,
    within    text not null, -- kind:id@source, empty for all of the kind
    metric    text not null,
    strained  double precision, -- null for never
    failing   double precision,
    words     text not null, -- why
    by        text not null,
    at        timestamptz not null default now(),
    until     timestamptz, -- null while it holds
    until_by  text
);
create unique index limit_rule_holds on limit_rule (kind, within, metric) where until is null;

-- Stretches of time in which an object was past a limit, judged as readings came in.
create table stretch (
    object   text not null, -- kind:id@source
    metric   text not null,
    began    timestamptz not null,
    seen     timestamptz not null, -- last cell past the limit
    ended    boolean not null,
    broken   boolean not null, -- readings stopped
    level    text not null,
    worst    double precision not null,
    held     jsonb not null, -- the limit as it was then
    primary key (object, metric, began)
);
create index stretch_seen on stretch (seen);
create index stretch_open on stretch (object) where not ended;

-- +goose Down
drop table stretch, limit_rule;
