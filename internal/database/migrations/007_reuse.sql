-- What a chain depends on: one with the same basis that passed is taken over.
alter table chain add column title text not null default '';
alter table chain add column basis jsonb;
alter table chain add column basis_key text;
alter table chain add column reuse_note text not null default '';
create index chain_basis on chain (basis_key) where basis_key is not null;
