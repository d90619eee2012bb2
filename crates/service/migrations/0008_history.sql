-- What was measured over time, in steps of three lengths; rows are removed as they grow old.
create table history (
    node uuid not null references nodes (id),
    step_seconds integer not null,
    series text not null,
    at timestamptz not null,
    samples integer not null,
    total double precision not null,
    most double precision not null,
    primary key (node, step_seconds, series, at)
);
