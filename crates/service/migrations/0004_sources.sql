-- Where models come from. Tokens are not here: they are in files that only the service's user may read.
create table sources (
    node uuid not null references nodes (id),
    name text not null,
    address text not null,
    kind text not null check (kind in ('index', 'registry', 'git', 'listing', 'folder')),
    -- How a listing is read.
    listing jsonb,
    user_name text,
    token_file text,
    added_at timestamptz not null default now(),
    primary key (node, name)
);

-- Running transfers and the latest that ended. A fetch that was running when the service ended goes on
-- by its request.
create table transfers (
    id uuid primary key,
    node uuid not null references nodes (id),
    began_at timestamptz not null,
    ended boolean not null,
    request jsonb not null,
    report jsonb not null
);

create index transfers_by_age on transfers (node, began_at desc);
