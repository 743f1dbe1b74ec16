-- Whose turn it is: chains know their project and how urgent their build is; a build that waits for
-- an earlier one of its branch is held.
alter table project add column most_places int not null default 0;
alter table agent add column draining boolean not null default false;
alter table build add column behind uuid references build;
create index build_behind on build (behind) where behind is not null;
create index build_branch_open on build (pipeline, branch, tag, number) where ended_at is null;

alter table chain add column project uuid references project;
alter table chain add column rank smallint not null default 0;
alter table chain add column alone text[] not null default '{}';
alter table chain add column held boolean not null default false;
update chain c set project = l.project from build b join pipeline l on l.id = b.pipeline where b.id = c.build and c.state <> 'over';

-- A service of the release before writes no project.
create function chain_of_project() returns trigger language plpgsql as $$
begin
  if new.project is null then
    select l.project into new.project from build b join pipeline l on l.id = b.pipeline where b.id = new.build;
  end if;
  return new;
end $$;
create trigger chain_of_project before insert on chain for each row execute function chain_of_project();

create index chain_turn on chain (project, demand, rank, ready_at) where state = 'waiting' and not held;
create index chain_offered on chain (demand) where state = 'waiting' and not held;
create index chain_busy on chain (project) where state = 'taken';

create table alone (
  name  text primary key,
  build uuid not null,
  chain int not null,
  since timestamptz not null default now(),
  foreign key (build, chain) references chain (build, index)
);
create index alone_chain on alone (build, chain);
