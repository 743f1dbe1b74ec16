-- Secrets of one pipeline, and which pipelines and refs a secret admits; none named: all.
create table pipeline_secret (
  pipeline    uuid not null references pipeline,
  name        text not null,
  sealed      bytea not null,
  revision    int not null,
  admits_refs text[] not null default '{}',
  set_by      text not null,
  set_at      timestamptz not null default now(),
  primary key (pipeline, name)
);
alter table secret add column admits_pipelines text[] not null default '{}';
alter table secret add column admits_refs text[] not null default '{}';
