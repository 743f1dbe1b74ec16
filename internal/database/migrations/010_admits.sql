-- Which pipelines and refs agents, stores and caches admit, stores of tools, and what a stage run got of them.
alter table agent add column admits jsonb not null default '{}';
alter table store add column admits jsonb not null default '{}';
alter table store add column tools boolean not null default false;
alter table project add column cache_admits jsonb not null default '{}';
alter table demand add column offers jsonb not null default '{}';
alter table stage_run add column tools jsonb not null default '[]';
create index store_tools on store (name) where tools;
