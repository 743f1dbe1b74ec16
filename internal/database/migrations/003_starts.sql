-- What a source had when it was looked at last, and when it is looked at next.
alter table source add column poll_s int not null default 60;
alter table source add column due_at timestamptz default now();
alter table source add column looked_at timestamptz;
alter table source add column fails int not null default 0;
alter table source add column trouble text not null default '';
alter table source add column call_key bytea;
create index source_due on source (due_at) where due_at is not null;

create table source_ref (
  source uuid not null references source,
  ref    text not null,
  commit text not null,
  primary key (source, ref)
);

-- The clock and after rules of a pipeline's file, as its default branch has it.
alter table pipeline add column resting boolean not null default false;
create table clock_rule (
  pipeline uuid not null references pipeline,
  clock    text not null,
  zone     text not null,
  branch   text not null,
  due_at   timestamptz not null,
  try_at   timestamptz not null,
  primary key (pipeline, clock, zone, branch)
);
create index clock_rule_try on clock_rule (try_at);
create table after_rule (
  pipeline uuid not null references pipeline,
  upstream text not null,
  branch   text not null,
  primary key (pipeline, upstream, branch)
);
create index after_rule_upstream on after_rule (upstream);

-- What could start a build, each once: a ref that moved, an instant of a clock, a build that passed.
create table occurrence (
  pipeline uuid not null references pipeline,
  kind     text not null,
  key      text not null,
  says     text not null,
  outcome  text not null,
  cause    text not null,
  build    uuid references build,
  at       timestamptz not null default now(),
  primary key (pipeline, kind, key)
);
create index occurrence_at on occurrence (pipeline, at);

-- Signatures of calls that were taken, so that none is taken twice.
create table taken_call (
  signature bytea primary key,
  at        timestamptz not null default now()
);

alter table build add column why jsonb not null default '{}';
