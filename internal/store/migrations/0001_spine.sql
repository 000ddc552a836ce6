-- +goose Up

create table setting (
    name  text primary key,
    value jsonb not null
);

create table app_user (
    id            bigint generated always as identity primary key,
    name          text not null,
    email         text not null unique,
    phone         text not null default '',
    role          text not null check (role in ('marketer', 'rep', 'lead', 'admin')),
    password_hash text not null,
    capacity      int not null default 0,
    away          boolean not null default false,
    handed_at     timestamptz,
    created_at    timestamptz not null
);

-- The shape that the session library's own store reads and writes.
create table sessions (
    token  text primary key,
    data   bytea not null,
    expiry timestamptz not null
);
create index sessions_expiry on sessions (expiry);

create table company (
    id         bigint generated always as identity primary key,
    name       text not null,
    domain     text unique,
    country    text not null default '',
    industry   text not null default '',
    created_at timestamptz not null
);

create table person (
    id             bigint generated always as identity primary key,
    first_name     text not null default '',
    last_name      text not null default '',
    email          text not null unique,
    phone          text not null default '',
    title          text not null default '',
    company_id     bigint references company,
    owner_id       bigint references app_user,
    country        text not null default '',
    city           text not null default '',
    zone           text not null default '',
    source         text not null default '',
    do_not_contact boolean not null default false,
    -- the last signal that ends every sequence: a reply, an opt-out, a bounce
    stopped_at     timestamptz,
    stopped_by     smallint,
    opted_out_at   timestamptz,
    bounced_at     timestamptz,
    created_at     timestamptz not null
);
create index person_company on person (company_id);
create index person_owner on person (owner_id);
create index person_name on person (lower(last_name), lower(first_name), id);

-- What people did. Append-only; everything else derives from it.
create table signal (
    id          bigint generated always as identity,
    person_id   bigint not null,
    at          timestamptz not null,
    kind        smallint not null,
    sequence_id bigint,
    step        int,
    message_id  bigint,
    link        int,
    page_id     bigint,
    touch_id    bigint,
    machine     text not null default '', -- why it is taken for a machine's; empty: a person's
    detail      text not null default '',
    primary key (id, at)
) partition by range (at);
create table signal_other partition of signal default;
create index signal_person on signal (person_id, at);
create index signal_sequence on signal (sequence_id, touch_id) where sequence_id is not null;
create index signal_page on signal (page_id, kind) where page_id is not null;

create table score_model (
    id      bigint generated always as identity primary key,
    name    text not null,
    floor   int not null default 0,
    ceiling int not null default 0,
    line    int not null,
    margin  int not null default 0
);

create table score_rule (
    id          bigint generated always as identity primary key,
    model_id    bigint not null references score_model on delete cascade,
    position    int not null,
    kind        smallint not null,
    points      int not null,
    often       text not null default '',
    n           int not null default 0,
    window_days int not null default 0,
    lasts       int not null default 0,
    half        int not null default 0,
    wipe        boolean not null default false,
    condition   jsonb not null default '{}'
);

-- Each person's score as last counted: it holds from counted_at until it
-- changes by itself at until; due is when it has to be counted again.
create table standing (
    model_id   bigint not null references score_model on delete cascade,
    person_id  bigint not null references person on delete cascade,
    score      double precision not null default 0,
    armed      boolean not null default true,
    rebase     boolean not null default false, -- what it was counts by other rules: compare with nothing
    counted_at timestamptz,
    until      timestamptz,
    due        timestamptz,
    primary key (model_id, person_id)
);
create index standing_due on standing (due) where due is not null;
create index standing_person on standing (person_id);
create index standing_score on standing (model_id, score desc, person_id desc);

create table message (
    id         bigint generated always as identity primary key,
    name       text not null,
    version    int not null,
    updated_at timestamptz not null,
    updated_by bigint references app_user
);

-- Every saved state of a message; what is on its way keeps the one it left with.
create table message_version (
    message_id bigint not null references message on delete cascade,
    version    int not null,
    subject    text not null,
    body       text not null,
    from_owner boolean not null default true,
    sender_id  bigint references app_user, -- sends where there is no owner
    saved_at   timestamptz not null,
    primary key (message_id, version)
);

create table page (
    id         bigint generated always as identity primary key,
    slug       text not null unique,
    title      text not null,
    intro      text not null default '',
    button     text not null,
    thanks     text not null default '',
    offer      text not null default '',
    file_name  text not null default '',
    file_type  text not null default '',
    file       bytea,
    published  boolean not null default false,
    updated_at timestamptz not null
);

create table sequence (
    id         bigint generated always as identity primary key,
    name       text not null,
    state      text not null default 'draft' check (state in ('draft', 'running', 'held', 'ended')),
    entry      jsonb not null default '{}',
    draft_n    int not null default 0, -- which of sequence_draft is the draft now
    version_id bigint,
    created_at timestamptz not null,
    updated_at timestamptz not null
);

-- Every state a draft went through, for undo and redo.
create table sequence_draft (
    sequence_id bigint not null references sequence on delete cascade,
    n           int not null,
    plan        jsonb not null,
    what        text not null,
    primary key (sequence_id, n)
);

create table sequence_version (
    id          bigint generated always as identity primary key,
    sequence_id bigint not null references sequence on delete cascade,
    number      int not null,
    plan        jsonb not null,
    messages    jsonb not null, -- message id → version
    entry       jsonb not null,
    hold_until  timestamptz,
    launched_at timestamptz not null,
    launched_by bigint references app_user,
    unique (sequence_id, number)
);
alter table sequence add foreign key (version_id) references sequence_version;

create table enrolment (
    id          bigint generated always as identity primary key,
    sequence_id bigint not null references sequence,
    version_id  bigint not null references sequence_version,
    person_id   bigint not null references person,
    step        int not null,
    phase       smallint not null default 0,
    entered_at  timestamptz not null,
    reached_at  timestamptz not null,
    due         timestamptz, -- when its step is due
    look        timestamptz, -- when a worker has to look: due, or earlier where something happened
    ended_at    timestamptz,
    reason      text not null default ''
);
create unique index enrolment_open on enrolment (sequence_id, person_id) where ended_at is null;
create index enrolment_look on enrolment (look) where ended_at is null and look is not null;
create index enrolment_person on enrolment (person_id);
create index enrolment_step on enrolment (version_id, step) where ended_at is null;

create table enrolment_log (
    id           bigint generated always as identity primary key,
    enrolment_id bigint not null,
    version_id   bigint not null,
    step         int not null,
    at           timestamptz not null,
    exit         text not null,
    reason       text not null default ''
);
create index enrolment_log_way on enrolment_log (enrolment_id);
create index enrolment_log_step on enrolment_log (version_id, step, exit);

create table touch (
    id              bigint generated always as identity primary key,
    enrolment_id    bigint not null references enrolment,
    sequence_id     bigint not null,
    version_id      bigint not null,
    person_id       bigint not null references person,
    step            int not null,
    kind            text not null check (kind in ('email', 'call')),
    -- email: ready → claimed → sending → sent, held or stopped; call: desk → done or missed; either: withdrawn, passed
    state           text not null check (state in ('ready', 'claimed', 'sending', 'sent', 'held', 'stopped', 'desk',
    	'done', 'missed', 'withdrawn', 'passed')),
    made_at         timestamptz not null,
    ready_at        timestamptz not null,
    tries           int not null default 0,
    claimed_at      timestamptz,
    worker          bigint,
    mail_id         text unique,
    message_id      bigint,
    message_version int,
    sender_id       bigint,
    address         text not null default '',
    subject         text not null default '',
    rep_id          bigint references app_user,
    done_at         timestamptz,
    outcome         text not null default '',
    notes           text not null default '',
    trouble         text not null default '',
    unique (enrolment_id, step)
);
create index touch_ready on touch (ready_at) where state = 'ready';
create index touch_claimed on touch (worker) where state in ('claimed', 'sending');
create index touch_trouble on touch (id) where state in ('held', 'stopped');
create index touch_desk on touch (rep_id, ready_at) where state = 'desk';
create index touch_person on touch (person_id, made_at);
create index touch_step on touch (version_id, step);

-- Mail that came in.
create table incoming (
    id        bigint generated always as identity primary key,
    mail_id   text not null unique,
    person_id bigint references person,
    touch_id  bigint references touch,
    at        timestamptz not null,
    kind      smallint not null,
    sender    text not null,
    subject   text not null,
    body      text not null
);
create index incoming_person on incoming (person_id, at);

create table handoff (
    id          bigint generated always as identity primary key,
    person_id   bigint not null references person,
    rep_id      bigint references app_user, -- null: waiting in the pool
    state       text not null default 'open' check (state in ('open', 'accepted', 'sent back')),
    made_by     text not null check (made_by in ('crossing', 'step', 'hand')),
    how         text not null,
    sequence_id bigint,
    brief       jsonb not null,
    made_at     timestamptz not null,
    decided_at  timestamptz,
    reason      text not null default ''
);
create unique index handoff_open on handoff (person_id) where state = 'open';
create index handoff_rep on handoff (rep_id, made_at) where state = 'open';
create index handoff_person on handoff (person_id);

create table stage (
    id       bigint generated always as identity primary key,
    name     text not null,
    position int not null,
    share    int not null default 0,
    won      boolean not null default false,
    lost     boolean not null default false
);

create table deal (
    id         bigint generated always as identity primary key,
    person_id  bigint not null references person,
    company_id bigint references company,
    rep_id     bigint references app_user,
    handoff_id bigint references handoff,
    stage_id   bigint not null references stage,
    name       text not null,
    amount     bigint not null default 0, -- cents
    position   double precision not null default 0,
    opened_at  timestamptz not null,
    moved_at   timestamptz not null,
    closed_at  timestamptz
);
create index deal_stage on deal (stage_id, position);
create unique index deal_open on deal (person_id) where closed_at is null;
create index deal_person on deal (person_id);

create table deal_move (
    id       bigint generated always as identity primary key,
    deal_id  bigint not null references deal on delete cascade,
    stage_id bigint not null references stage,
    at       timestamptz not null,
    user_id  bigint references app_user
);
create index deal_move_deal on deal_move (deal_id);

-- Processes that work. Each holds an advisory lock on its id as long as it
-- lives, so that others can tell at once when it is gone.
create table worker (
    id         bigint generated always as identity primary key,
    started_at timestamptz not null
);

-- +goose Down
drop table worker, deal_move, deal, stage, handoff, incoming, touch, enrolment_log, enrolment cascade;
drop table sequence_version, sequence_draft, sequence, page, message_version, message cascade;
drop table standing, score_rule, score_model, signal, person, company, sessions, app_user, setting cascade;
