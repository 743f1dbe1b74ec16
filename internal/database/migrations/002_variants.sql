alter table stage_run add column variant text not null default '';
alter table stage_run add column exports jsonb;
alter table chain add column halt text not null default '';
