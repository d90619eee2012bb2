-- Who asked, how a call ended, and how fast it was.
alter table calls
    add column caller text not null default '',
    add column detail text,
    add column reused_tokens integer not null default 0,
    add column queue_seconds double precision not null default 0,
    add column prompt_rate double precision,
    add column answer_rate double precision;
