-- What the nodes saw and decided. A node numbers its own events without gaps; a store id tells apart two lives of one
-- node's store. Inserting an event again changes nothing.
create table event (
    node      text        not null,
    store     text        not null,
    number    bigint      not null,
    at        timestamptz not null,
    level     text        not null,
    kind      text        not null,
    text      text        not null,
    workload  text,
    operation bigint,
    log_index bigint,
    data      jsonb       not null default '{}',
    primary key (node, store, number)
);
create index event_by_time on event (at, node, number);
create index event_by_operation on event (operation) where operation is not null;

create table election (
    term  bigint not null,
    voter text   not null,
    vote  boolean not null,
    elected text not null,
    at    timestamptz not null,
    primary key (term, voter)
);

create table operation (
    id       bigint primary key,
    workload text not null,
    began_at timestamptz,
    ended_at timestamptz,
    opening  text,
    outcome  text,
    phases   jsonb
);

create table step (
    operation bigint not null,
    log_index bigint not null,
    at        timestamptz not null,
    kind      text not null,
    text      text not null,
    primary key (operation, log_index)
);
