-- An authority has been asked too often for a site, and does not want to be before.
alter table site_certificates add column limited_until timestamptz;
