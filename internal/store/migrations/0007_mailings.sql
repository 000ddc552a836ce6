-- +goose Up

-- One-off emails: one message to one audience, at one time.
create table mailing (
    id              bigint generated always as identity primary key,
    name            text not null,
    -- draft → filling (its readers are being written down) → sending, held or stopped
    state           text not null default 'draft' check (state in ('draft', 'filling', 'sending', 'held', 'stopped')),
    message_id      bigint references message,
    message_version int,
    purpose_id      bigint references purpose,
    audience_id     bigint references audience,
    excluded        bigint[] not null default '{}', -- audiences
    plan            jsonb not null,
    acts            jsonb not null default '[]',     -- what pressing a link does besides
    made_by         bigint references app_user,
    made_at         timestamptz not null,
    launched_at     timestamptz,
    filled_to       bigint not null default 0        -- the last person that was written down
);

-- Who of the audience does not get it, and why.
create table mailing_left (
    mailing_id bigint not null references mailing on delete cascade,
    person_id  bigint not null references person on delete cascade,
    reason     text not null,
    primary key (mailing_id, person_id)
);

alter table touch
    alter column enrolment_id drop not null,
    alter column sequence_id drop not null,
    alter column version_id drop not null,
    add column mailing_id bigint references mailing;
create unique index touch_mailing on touch (mailing_id, person_id) where mailing_id is not null;

-- What readers of one-off emails do.
create index signal_touch on signal (touch_id, kind) where touch_id is not null and sequence_id is null;

-- +goose Down
drop index signal_touch;
delete from incoming where touch_id in (select id from touch where mailing_id is not null);
delete from touch where mailing_id is not null;
alter table touch drop column mailing_id, alter column enrolment_id
set not null, alter column sequence_id
set not null, alter column version_id
set not null;
drop table mailing_left, mailing;
