-- When an agent last said that it leaves. It is away until it is seen again.
alter table agent add column left_at timestamptz;
