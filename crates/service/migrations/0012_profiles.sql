-- Named defaults over models.
create table profiles (
    node uuid not null references nodes (id),
    name text not null,
    -- The profile as it was saved.
    profile jsonb not null,
    saved_at timestamptz not null default now(),
    primary key (node, name)
);
