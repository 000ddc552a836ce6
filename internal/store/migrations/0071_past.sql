-- +goose Up
-- What is left of records that have had their time: how many there were.
create table page_past (
    page_id  bigint not null references page on delete cascade,
    month    date not null, -- of UTC
    source   text not null,
    site     text not null,
    seen     bigint not null,
    begun    bigint not null,
    finished bigint not null,
    primary key (page_id, month, source, site)
);
create table audience_past (
    audience_id bigint not null references audience on delete cascade,
    day         date not null, -- of the workspace's zone
    joined      bigint not null,
    "left"      bigint not null,
    primary key (audience_id, day)
);

-- +goose Down
drop table page_past, audience_past;
