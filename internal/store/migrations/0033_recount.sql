-- +goose Up
-- A model that has changed so many times; a score says after which change it was counted. So a
-- change need not touch every score at once: each is counted anew in its turn, and by the change
-- alone nobody crosses a line.
alter table score_model add column changes int not null default 0;
alter table standing add column changes int not null default 0;

-- By this records that may be one person's are found: by the address without what mail servers
-- leave out. It is asked for equality alone, and a hash costs whoever writes many people less.
create index person_mail_key on person using hash (
    (replace(split_part(split_part(email, '@', 1), '+', 1), '.', '') || '@' || split_part(email, '@', 2)))
    where email <> '';

-- Which kinds of touch there are, the program says.
alter table touch drop constraint if exists touch_kind_check;
alter table touch drop constraint if exists touch_kind_check1;

-- A statement that is about somebody many times notes them once.
-- +goose StatementBegin
create or replace function tell_audiences() returns trigger language plpgsql as $$
begin
    if exists (select from audience where live and asks @> array[tg_argv[0]]) then
        case tg_argv[0]
        when 'record' then
            insert into audience_stale select id, tg_argv[0] from changed;
        when 'signal' then
            insert into audience_stale
            select x.person_id, tg_argv[0], u.at
            from (select person_id, min(at) as early, max(at) as late from changed group by person_id) x,
                lateral (select x.early union select x.late) u(at);
        when 'company' then
            insert into audience_stale select p.id, tg_argv[0] from person p join changed c on c.id = p.company_id;
        else
            insert into audience_stale select distinct person_id, tg_argv[0] from changed;
        end case;
    end if;
    return null;
end $$;
-- +goose StatementEnd

-- +goose Down
-- +goose StatementBegin
create or replace function tell_audiences() returns trigger language plpgsql as $$
begin
    if exists (select from audience where live and asks @> array[tg_argv[0]]) then
        case tg_argv[0]
        when 'record' then
            insert into audience_stale select id, tg_argv[0] from changed;
        when 'signal' then
            insert into audience_stale select person_id, tg_argv[0], at from changed;
        when 'company' then
            insert into audience_stale select p.id, tg_argv[0] from person p join changed c on c.id = p.company_id;
        else
            insert into audience_stale select person_id, tg_argv[0] from changed;
        end case;
    end if;
    return null;
end $$;
-- +goose StatementEnd
alter table touch add constraint touch_kind_check check (kind in ('email', 'call'));
drop index person_mail_key;
alter table standing drop column changes;
alter table score_model drop column changes;
