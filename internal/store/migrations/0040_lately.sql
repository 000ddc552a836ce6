-- +goose Up
-- What has just happened on a sequence is found however long others have been quiet or busy.
create index enrolment_log_lately on enrolment_log (version_id, id);

-- +goose Down
drop index enrolment_log_lately;
