create table setting (
  name  text primary key,
  value bytea not null
);

create table person (
  id         uuid primary key,
  name       text not null unique,
  shown      text not null,
  password   text not null,
  owner      boolean not null default false,
  created_at timestamptz not null default now()
);

create table token (
  id         uuid primary key,
  digest     bytea not null unique,
  person     uuid not null references person,
  name       text not null,
  scope      text not null,
  session    boolean not null,
  ends_at    timestamptz not null,
  created_at timestamptz not null default now()
);
create index token_person on token (person, created_at);

create table project (
  id         uuid primary key,
  name       text not null unique,
  summary    text not null,
  created_at timestamptz not null default now()
);

create table member (
  project uuid not null references project,
  person  uuid not null references person,
  role    text not null,
  primary key (project, person)
);

create table source (
  id         uuid primary key,
  project    uuid not null references project,
  name       text not null unique,
  url        text not null,
  credential bytea,
  trusted    text[] not null,
  created_at timestamptz not null default now()
);

create table pipeline (
  id         uuid primary key,
  project    uuid not null references project,
  name       text not null unique,
  source     uuid not null references source,
  file       text not null,
  summary    text not null default '',
  last       int not null default 0,
  created_at timestamptz not null default now()
);

create table secret (
  project  uuid not null references project,
  name     text not null,
  sealed   bytea not null,
  revision int not null,
  set_by   text not null,
  set_at   timestamptz not null default now(),
  primary key (project, name)
);

create table join_token (
  digest  bytea primary key,
  made_by text not null,
  ends_at timestamptz not null,
  used_at timestamptz
);

create table agent (
  id         uuid primary key,
  name       text not null unique,
  digest     bytea not null unique,
  facts      jsonb not null,
  places     int not null,
  seen_at    timestamptz not null default now(),
  created_at timestamptz not null default now(),
  removed_at timestamptz
);
create index agent_seen on agent (seen_at) where removed_at is null;

create table build (
  id         uuid primary key,
  pipeline   uuid not null references pipeline,
  number     int not null,
  state      text not null,
  cause      text not null default '',
  stopping   text not null default '',
  ref        text not null,
  commit     text not null,
  branch     text not null,
  tag        text not null,
  version    text not null,
  derivation text not null,
  started_by text not null,
  trusted    boolean not null,
  plan       jsonb not null,
  changes    jsonb not null,
  log_at     bigint not null default 0,
  created_at timestamptz not null default now(),
  started_at timestamptz,
  ended_at   timestamptz,
  unique (pipeline, number)
);
create index build_created on build (created_at);
create index build_open on build (created_at) where ended_at is null;
create index build_passed on build (pipeline, branch, number) where state = 'passed';

create table demand (
  id    bigint generated always as identity primary key,
  text  text not null unique,
  facts jsonb not null
);

create sequence fence;

create table chain (
  build       uuid not null references build,
  index       int not null,
  state       text not null,
  demand      bigint not null references demand,
  agent       uuid references agent,
  fence       bigint not null default 0,
  lost        int not null default 0,
  token       bytea,
  ready_at    timestamptz,
  taken_at    timestamptz,
  lease_until timestamptz,
  reported    bigint not null default 0,
  primary key (build, index)
);
create index chain_waiting on chain (demand, ready_at) where state = 'waiting';
create index chain_taken on chain (lease_until) where state = 'taken';
create index chain_agent on chain (agent) where state = 'taken';
create unique index chain_token on chain (token) where token is not null;

create table stage_run (
  build         uuid not null references build,
  index         int not null,
  name          text not null,
  purpose       text not null,
  chain         int not null,
  state         text not null,
  cause         text not null default '',
  satisfied     boolean not null default false,
  agent         text not null default '',
  fence         bigint not null default 0,
  ready_at      timestamptz,
  started_at    timestamptz,
  ended_at      timestamptz,
  waiting_ms    bigint not null default 0,
  preparing_ms  bigint not null default 0,
  working_ms    bigint not null default 0,
  delivering_ms bigint not null default 0,
  steps         jsonb not null default '[]',
  notes         jsonb not null default '[]',
  carried       jsonb,
  primary key (build, index)
);

create table log_segment (
  build  uuid not null,
  run    int not null,
  fence  bigint not null,
  seq    bigint not null,
  at     bigint not null,
  first  bigint not null,
  lines  int not null,
  body   bytea not null,
  primary key (build, run, fence, seq)
);
alter table log_segment alter column body set storage external;
create unique index log_segment_at on log_segment (build, at);

create table tests (
  build   uuid not null references build,
  run     int not null,
  total   int not null,
  passed  int not null,
  failed  int not null,
  skipped int not null,
  primary key (build, run)
);

create table test_failed (
  build   uuid not null,
  run     int not null,
  place   int not null,
  suite   text not null,
  name    text not null,
  seconds double precision not null,
  message text not null,
  primary key (build, run, place)
);

create table blob (
  digest     text primary key,
  size       bigint not null,
  created_at timestamptz not null default now()
);

create table blob_hold (
  digest text not null references blob,
  holder text not null,
  until  timestamptz not null,
  primary key (digest, holder)
);

create table content (
  digest text primary key,
  size   bigint not null,
  files  int not null
);

create table content_file (
  content    text not null references content,
  path       text not null,
  size       bigint not null,
  digest     text not null references blob,
  executable boolean not null,
  primary key (content, path)
);
create index content_file_digest on content_file (digest);
create index content_file_size on content_file (size);

create table store (
  id         uuid primary key,
  project    uuid not null references project,
  name       text not null unique,
  summary    text not null,
  format     text not null,
  rewrite    text not null,
  rank       int not null,
  sources    text[] not null,
  outside    boolean not null default false,
  rules      jsonb not null,
  revision   int not null default 1,
  created_at timestamptz not null default now()
);

create table admission (
  id         uuid primary key,
  store      uuid not null references store,
  name       text not null,
  version    text not null,
  revision   int not null default 1,
  state      text not null,
  holds      boolean not null,
  content    text references content,
  build      uuid references build,
  origin     uuid references admission,
  by         text not null,
  spare_ms   bigint not null default 0,
  created_at timestamptz not null default now(),
  sealed_at  timestamptz,
  ended_at   timestamptz
);
create unique index admission_holds on admission (store, name, version) where holds;
create index admission_name on admission (store, name, created_at);
create index admission_version on admission (store, name, version, revision);
create index admission_build on admission (build);
create index admission_content on admission (content);
create index admission_ended on admission (ended_at) where state = 'dropped';

create table filling (
  admission  uuid not null references admission,
  path       text not null,
  size       bigint not null,
  digest     text not null references blob,
  executable boolean not null,
  run        int not null,
  primary key (admission, path)
);

create table mark (
  store     uuid not null references store,
  name      text not null,
  mark      text not null,
  admission uuid not null references admission,
  set_by    text not null,
  set_at    timestamptz not null default now(),
  primary key (store, name, mark)
);

create table promotion (
  id         uuid primary key,
  origin     uuid not null references admission,
  store      uuid not null references store,
  made       uuid references admission,
  by         text not null,
  note       text not null,
  mark       text not null,
  accepted   boolean not null,
  cause      text not null,
  revision   int not null,
  verdicts   jsonb not null,
  created_at timestamptz not null default now()
);
create index promotion_origin on promotion (origin, created_at);
create index promotion_made on promotion (made);
create index promotion_created on promotion (created_at);

create table input (
  build     uuid not null references build,
  run       int not null,
  admission uuid not null references admission,
  path      text not null,
  digest    text not null,
  at        timestamptz not null default now(),
  primary key (build, run, admission, path)
);
create index input_admission on input (admission);

create table statement (
  content    text not null references content,
  build      uuid not null references build,
  envelope   bytea not null,
  created_at timestamptz not null default now(),
  primary key (content, build)
);

create table errand (
  id     bigint generated always as identity primary key,
  kind   text not null,
  about  uuid not null,
  due_at timestamptz not null default now(),
  tries  int not null default 0,
  said   text not null default '',
  unique (kind, about)
);
create index errand_due on errand (due_at);

create table record (
  id      bigint generated always as identity primary key,
  at      timestamptz not null default now(),
  who     text not null,
  did     text not null,
  thing   text not null,
  details jsonb not null default '{}'
);
create index record_thing on record (thing, id);

create function record_is_append_only() returns trigger language plpgsql as $$
begin
  raise exception 'the journal of records is append-only';
end $$;
create trigger record_append_only before update or delete on record
  for each row execute function record_is_append_only();
create trigger record_no_truncate before truncate on record
  for each statement execute function record_is_append_only();
