-- +goose Up

-- What a version says, in 16 bytes: an object that is listed again unchanged is recognised without being read.
alter table object_version add column digest bytea;

create index object_version_begins on object_version (valid_from) where valid_from > '-infinity';
create index object_version_ended on object_version (valid_to) where valid_to < 'infinity';
create index object_version_holds on object_version (object_id) where valid_to = 'infinity';
drop index object_version_validity;

-- Moments at which the estate changed, and with which of its versions they became known.
create table moment (
    at      timestamptz primary key,
    version bigint not null
);
insert into moment
select distinct at, 0 from (
    select valid_from as at from object_version where valid_from > '-infinity'
    union select valid_to from object_version where valid_to < 'infinity') m;

-- Which objects each version of the estate touched, so that pictures of it are changed and not made anew.
create table estate_change (
    version bigint primary key,
    objects bigint[] -- null where there were too many to list
);

-- +goose Down
drop table estate_change, moment;
drop index object_version_begins, object_version_ended, object_version_holds;
create index object_version_validity on object_version (valid_to, valid_from);
alter table object_version drop column digest;
