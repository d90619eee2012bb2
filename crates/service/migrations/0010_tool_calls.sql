-- A call may end because the model called tools.
alter table calls drop constraint calls_outcome_check;
alter table calls add constraint calls_outcome_check
    check (outcome in ('stop', 'length', 'tool_calls', 'cancelled', 'failed'));
