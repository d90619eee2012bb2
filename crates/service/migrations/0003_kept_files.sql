-- Whether a variant's files are the depot's own; what is registered stays where it is.
alter table variants add column kept boolean not null default false;
create index calls_by_variant on calls (node, variant_name);
