-- When an agent last said that it leaves. It is away until it is seen again.
alter table agent add column left_at timestamptz;
-- The agents that were lost in the middle of a stage run.
alter table stage_run add column lost_agents text[] not null default '{}';
