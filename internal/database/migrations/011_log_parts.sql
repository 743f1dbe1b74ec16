-- The older text of a log that grows long: parts, which become one blob with the rest when it has ended.
create table log_part (
  build   uuid not null references build,
  run     int not null,
  fence   bigint not null,
  part    int not null,
  digest  text not null references blob,
  size    bigint not null,
  lines   bigint not null, -- the number of its last line
  places  jsonb not null,
  primary key (build, run, fence, part)
);
create index log_part_digest on log_part (digest);
