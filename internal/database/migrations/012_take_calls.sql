-- Which call for work of an agent is its newest: older ones, whose caller may have gone, get nothing.
alter table agent add column take_call bigint not null default 0;
