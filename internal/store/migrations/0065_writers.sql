-- +goose Up
-- A sequence of one email that what follows from a score is written by: one for each message and purpose.
alter table sequence
    add column writes_message bigint references message,
    add column writes_purpose bigint references purpose;
create unique index sequence_writes on sequence (writes_message, writes_purpose)
    where writes_message is not null and removed_at is null and state <> 'ended';

-- +goose Down
drop index sequence_writes;
alter table sequence
    drop column writes_message, drop column writes_purpose;
