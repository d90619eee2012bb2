-- The first tables. Every row that belongs to one machine carries its node, so that several nodes
-- can share one database later without a change of these tables.

create table nodes (
    id uuid primary key,
    name text not null,
    first_seen timestamptz not null default now()
);

-- Variants of models in the depot of a node: where the file is, what tells that it is still the
-- same, and what it says of itself.
create table variants (
    id uuid primary key,
    node uuid not null references nodes (id),
    model text not null,
    variant text not null,
    path text not null,
    file_bytes bigint not null check (file_bytes >= 0),
    modified_ns bigint not null,
    inode bigint not null,
    facts jsonb not null,
    registered_at timestamptz not null default now(),
    unique (node, model, variant)
);

-- Wishes: which variants an operator wants loaded, and how. Facts about running instances are not
-- stored; the service compares wish and fact.
create table instances (
    id uuid primary key,
    node uuid not null references nodes (id),
    variant uuid not null references variants (id) on delete cascade,
    settings jsonb not null,
    wished_at timestamptz not null default now()
);

-- One row for each call. No text of prompts or answers.
create table calls (
    id uuid primary key,
    node uuid not null references nodes (id),
    variant_name text not null,
    arrived_at timestamptz not null,
    outcome text not null check (outcome in ('stop', 'length', 'cancelled', 'failed')),
    prompt_tokens integer not null,
    answer_tokens integer not null,
    first_token_seconds double precision,
    total_seconds double precision not null
);

create index calls_by_arrival on calls (node, arrived_at desc);
