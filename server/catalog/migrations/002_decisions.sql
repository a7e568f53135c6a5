-- Findings can be left out for good: later crawls remember the place.
CREATE TABLE left_out (
  storage_id integer NOT NULL REFERENCES storage (id),
  location   text NOT NULL,
  who        text NOT NULL,
  at         timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (storage_id, location)
);
ALTER TABLE finding DROP CONSTRAINT finding_decision_check;
ALTER TABLE finding ADD CONSTRAINT finding_decision_check CHECK (decision IN ('register', 'leave-out', 'leave-out-always', 'undecided', 'registered'));
