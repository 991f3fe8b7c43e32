-- +goose Up
CREATE TABLE audit (
	id bigserial PRIMARY KEY,
	at timestamptz NOT NULL,          -- by the wall clock
	who text NOT NULL,                -- name of the token; 'service': it did it by itself
	role text NOT NULL,
	origin text NOT NULL,             -- address that it came from
	did text NOT NULL,                -- operation of the contract, or what the service did
	about text NOT NULL,              -- path of what it was done to
	before jsonb, after jsonb         -- what of it changed
);
CREATE INDEX audit_about ON audit (about text_pattern_ops, id);
CREATE INDEX audit_who ON audit (who, id);
CREATE INDEX audit_at ON audit (at);
-- What is written stays as it is. Only what is older than it is kept for may be deleted, by who says so.
-- +goose StatementBegin
CREATE FUNCTION audit_stays() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
	IF TG_OP = 'DELETE' AND current_setting('rotanex.prunes', true) = 'yes' THEN
		RETURN OLD;
	END IF;
	RAISE EXCEPTION 'what stands in the audit record is not changed';
END $$;
-- +goose StatementEnd
CREATE TRIGGER audit_stays BEFORE UPDATE OR DELETE ON audit FOR EACH ROW EXECUTE FUNCTION audit_stays();

-- +goose Down
DROP TABLE audit;
DROP FUNCTION audit_stays();
