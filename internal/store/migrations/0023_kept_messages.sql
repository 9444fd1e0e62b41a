-- What an address takes and does not pass on, such as spam, has an outcome of its own.
alter table mail_log drop constraint mail_log_outcome_check;
alter table mail_log add constraint mail_log_outcome_check
    check (outcome in ('delivered', 'forwarded', 'kept', 'waiting', 'failed', 'refused'));
