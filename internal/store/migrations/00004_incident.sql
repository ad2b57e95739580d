-- +goose Up

-- Stretches of time in which something hurt, for one reason.
create table incident (
    id              bigint generated always as identity primary key,
    component       text not null, -- kind:id@source, empty where it is not known
    class           text not null,
    onset           timestamptz not null,
    seen            timestamptz not null, -- last
    ended           timestamptz,
    harm            double precision not null, -- I/O-seconds waited
    judged          timestamptz not null,
    verdict         jsonb not null,
    sufferers       jsonb not null,
    acknowledged    timestamptz,
    acknowledged_by text
);
create index incident_onset on incident (onset);
create index incident_open on incident (id) where ended is null;
create index incident_component on incident (component, onset);

create table incident_comment (
    id       bigint generated always as identity primary key,
    incident bigint not null references incident on delete cascade,
    at       timestamptz not null default now(),
    by       text not null,
    words    text not null
);
create index incident_comment_of on incident_comment (incident, id);

-- +goose Down
drop table incident_comment, incident;
