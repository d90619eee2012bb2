-- Files of calls and of their answers. Their contents are in the data directory.
create table files (
    id uuid primary key,
    node uuid not null references nodes (id),
    name text not null,
    bytes bigint not null check (bytes >= 0),
    purpose text not null check (purpose in ('batch', 'batch_output')),
    created_at timestamptz not null
);

create index files_by_age on files (node, created_at desc, id);

-- Batches. One that was running when the service ended goes on: its answers so far are in its file.
create table batches (
    id uuid primary key,
    node uuid not null references nodes (id),
    created_at timestamptz not null,
    ended boolean not null,
    report jsonb not null
);

create index batches_by_age on batches (node, created_at desc, id);
