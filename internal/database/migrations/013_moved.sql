-- The transaction that last saved a build's state. Services keep a state in memory under this number, so it is
-- set in here, whichever release of the service saves: they all name the column state when they do.
alter table build add column moved bigint not null default 0;
create function build_moved() returns trigger language plpgsql as $$
begin
	new.moved := txid_current();
	return new;
end $$;
create trigger build_moved before update of state on build for each row execute function build_moved();
