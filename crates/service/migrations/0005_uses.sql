-- How often each variant was asked, kept beside the calls so that a list need not count them all.
create table uses (
    node uuid not null references nodes (id),
    variant_name text not null,
    calls bigint not null,
    last timestamptz not null,
    primary key (node, variant_name)
);

insert into uses (node, variant_name, calls, last)
select node, variant_name, count(*), max(arrived_at) from calls group by node, variant_name;

drop index calls_by_variant;
