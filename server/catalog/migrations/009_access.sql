-- Who may do what from outside, and answers that must come out the same when a request is sent again.

CREATE TABLE token (
  id          text PRIMARY KEY,
  name        text NOT NULL,
  -- The secret is shown once and never stored; this is its SHA-256.
  secret_hash text NOT NULL,
  -- [{ "on": "refined" | "refined.bottles" | "*", "right": "see" | "read" | "write" | "manage" }]
  grants      jsonb NOT NULL,
  created_by  text NOT NULL,
  created_at  timestamptz NOT NULL DEFAULT now(),
  expires_at  timestamptz,
  last_used   timestamptz,
  revoked_at  timestamptz
);

CREATE TABLE repeatable_answer (
  key        text NOT NULL,
  token_id   text NOT NULL,
  -- Of method, path and body: the key may not be used for another request.
  request    text NOT NULL,
  status     integer NOT NULL,
  body       text NOT NULL,
  at         timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (key, token_id)
);
CREATE INDEX repeatable_answer_at ON repeatable_answer (at);
