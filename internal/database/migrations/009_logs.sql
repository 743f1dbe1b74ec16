-- Logs that have ended: one blob each, of the segments' bodies one after the other, and where each stands.
create table log_blob (
  build   uuid not null references build,
  run     int not null,
  fence   bigint not null,
  digest  text not null references blob,
  size    bigint not null,
  lines   bigint not null,
  places  jsonb not null,
  primary key (build, run, fence)
);
create index log_blob_digest on log_blob (digest);
insert into errand (kind, about) select 'logs', b.id from build b where b.ended_at is not null
  and exists (select 1 from log_segment g where g.build = b.id) on conflict do nothing;
