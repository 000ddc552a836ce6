-- +goose Up
-- Messages could read files of the machine, so what lay there may be known: links are signed by a new key from now on.
-- What was sent before keeps its links: the earlier key holds for the touches that there were.
insert into setting (name, value)
select 'link_key_before', jsonb_build_object('key', value, 'touches', (select coalesce(max(id), 0) from touch))
from setting
where name = 'link_key';
delete from setting where name = 'link_key';

-- +goose Down
update setting set name = 'link_key', value = value -> 'key' where name = 'link_key_before'
    and not exists (select from setting where name = 'link_key');
