-- Directories kept between builds, found again by the digest of what they depend on.
alter table project add column cache_bytes bigint not null default 10737418240;
alter table project add column cache_days int not null default 30;
create table cache (
  id      uuid primary key,
  project uuid not null references project,
  key     text not null,
  dirs    text not null,
  basis   jsonb not null,
  digest  text not null references blob,
  size    bigint not null,
  build   uuid not null references build,
  run     int not null,
  uses    int not null default 0,
  made_at timestamptz not null default now(),
  used_at timestamptz not null default now(),
  unique (project, key)
);
create index cache_dirs on cache (project, dirs, made_at);
create index cache_used on cache (project, used_at);
create index cache_digest on cache (digest);

-- What the run took in that saved a cache: whoever finds it takes that in as well.
create table cache_input (
  cache     uuid not null references cache on delete cascade,
  admission uuid not null references admission,
  path      text not null,
  digest    text not null,
  primary key (cache, admission, path)
);

-- Blobs that nothing may refer to any more, to be looked at and removed.
create table gone_blob (
  digest text primary key
);
