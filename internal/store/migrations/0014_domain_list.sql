-- Domains of the whole installation are listed in the order of their names, and searched by parts of
-- them.
create index domains_list on domains (name, id);
create index domains_search on domains using gin (name gin_trgm_ops);
