-- What an operator gave with a model: a chat template in place of the file's own, and how it is loaded where
-- nothing else is said.
alter table variants add column template text;
alter table variants add column defaults jsonb not null default '{}';
