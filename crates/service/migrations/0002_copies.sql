-- Several instances of one variant: which of them a wish is for.
alter table instances add column copy integer not null default 1 check (copy >= 1);
create unique index instances_by_copy on instances (node, variant, copy);
