-- +goose Up
-- Latencies are kept by class of operation.
CREATE TABLE latencies (
  measurement_id INTEGER NOT NULL REFERENCES measurements (id) ON DELETE CASCADE,
  class          TEXT NOT NULL, -- reads, writes, flushes
  histogram      BLOB NOT NULL, -- HdrHistogram V2 compressed
  PRIMARY KEY (measurement_id, class)
) WITHOUT ROWID;
INSERT INTO latencies SELECT id, 'reads', reads FROM measurements WHERE reads IS NOT NULL;
INSERT INTO latencies SELECT id, 'writes', writes FROM measurements WHERE writes IS NOT NULL;
ALTER TABLE measurements DROP COLUMN writes;
ALTER TABLE measurements DROP COLUMN reads;

-- +goose Down
ALTER TABLE measurements ADD COLUMN reads BLOB;
ALTER TABLE measurements ADD COLUMN writes BLOB;
UPDATE measurements SET
  reads = (SELECT histogram FROM latencies WHERE measurement_id = id AND class = 'reads'),
  writes = (SELECT histogram FROM latencies WHERE measurement_id = id AND class = 'writes');
DROP TABLE latencies;
