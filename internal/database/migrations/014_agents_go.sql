-- When an agent last said that it leaves. It is away until it is seen again.
alter table agent add column left_at timestamptz;
-- Hand-outs of a stage run in the middle of which an agent was lost.
alter table stage_run add column lost jsonb not null default '[]';
