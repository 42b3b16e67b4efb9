-- When an event came here, which may be long after it happened: whoever follows the record asks for what has come since.
alter table event add column arrived timestamptz not null default clock_timestamp();
create index event_by_arrival on event (arrived);
