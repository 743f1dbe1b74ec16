-- A build may have another go at what did not pass; what became of that before is kept.
alter table build add column round int not null default 1;
create table earlier_run (
  build      uuid not null references build,
  round      int not null,
  run        int not null,
  state      text not null,
  cause      text not null,
  agent      text not null,
  fence      bigint not null,
  started_at timestamptz,
  ended_at   timestamptz,
  failed     jsonb not null,
  primary key (build, round, run)
);
