-- Which depot the records of a node belong to: another one, or none, is not to be taken for an empty one.
alter table nodes add column depot uuid;
