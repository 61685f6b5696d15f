-- +goose Up
-- Agents are known by the fingerprints of their keys; a certificate says the same to whoever is not the lodge.
create table agents (
    name          text primary key,
    made          timestamptz not null default now(),
    made_by       text not null default '',
    joining       bytea,                     -- SHA-256 of the word with which it joins
    joining_until timestamptz,
    key           text not null default '',  -- fingerprint of its public key
    next_key      text not null default '',  -- of the one that it was certified for last, and has not shown yet
    certified     timestamptz,
    ends          timestamptz,
    seen          timestamptz,
    address       text not null default '',
    revoked       timestamptz
);
create unique index agents_by_key on agents (key) where key <> '';
create unique index agents_by_next_key on agents (next_key) where next_key <> '';

-- +goose Down
drop table agents;
