-- +goose Up
-- Until when somebody who is away gets no email; they said so in an automatic
-- answer.
alter table person add column away_until timestamptz;

-- +goose Down
alter table person drop column away_until;
