-- How domains are served: redirects, mirrors, settings, templates, protected folders.

-- Settings for sites that follow them. A template without a reseller is the operator's.
create table templates (
    id                 bigint generated always as identity primary key,
    name               text not null check (name ~ '^[a-z][a-z0-9]*(-[a-z0-9]+)*$' and length(name) between 2 and 40),
    reseller_id        bigint references resellers on delete cascade,
    about              text not null default '' check (length(about) <= 300),
    settings           jsonb not null default '{}',
    version            bigint not null default 1 check (version > 0),
    created_at         timestamptz not null default now()
);
create unique index templates_name on templates (reseller_id, name) nulls not distinct;

-- What new sites of the plan's accounts follow.
alter table plans add template_id bigint references templates;
create index plans_template on plans (template_id) where template_id is not null;

alter table domains
    add target text not null default '',      -- of a redirect
    add code integer not null default 301 check (code in (301, 302, 307, 308)),
    add keep_path boolean not null default true,
    add keep_query boolean not null default true,
    add mirror_of bigint references domains,
    add moved_from text not null default '',  -- the root whose files are to be moved to the present one
    add settings jsonb not null default '{}', -- only what is set for this site
    add template_id bigint references templates,
    add version bigint not null default 1 check (version > 0),
    add check ((served_as = 'mirror') = (mirror_of is not null)),
    add check (served_as <> 'redirect' or target <> ''),
    add check (mirror_of <> id);
create index domains_mirrors on domains (mirror_of) where mirror_of is not null;
create index domains_template on domains (template_id) where template_id is not null;
-- Two sites of an account in one directory would be one site under two names: that is a mirror.
create unique index domains_root on domains (account_id, root) where served_as = 'site';

create table folders (
    id                 bigint generated always as identity primary key,
    domain_id          bigint not null references domains on delete cascade,
    path               text not null check (length(path) <= 512), -- below the document root; empty is all of it
    title              text not null check (length(title) between 1 and 80),
    unique (domain_id, path)
);

create table folder_users (
    folder_id          bigint not null references folders on delete cascade,
    name               text not null check (length(name) between 1 and 64),
    hash               text not null,
    primary key (folder_id, name)
);

-- What a plan and a share give to PHP when they say nothing.
insert into plan_limits (plan_id, key, amount) select plans.id, floors.key, floors.amount from plans, (values ('php_memory', 134217728::bigint), ('php_time', 30)) as floors (key, amount);
insert into share_limits (reseller_id, key, amount) select resellers.id, floors.key, floors.amount from resellers, (values ('php_memory', 134217728::bigint), ('php_time', 30)) as floors (key, amount);
