-- Sites whose domain was removed count no longer as sites of a kit.

delete from site_kits where domain_id is null and work = '';
