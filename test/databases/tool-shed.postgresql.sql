-- A shed that several associations share: schemas, uuid keys, enums of its own.
CREATE SCHEMA shed;
CREATE TYPE shed.condition AS ENUM ('new', 'worn', 'broken');
CREATE TYPE visibility AS ENUM ('private', 'public');
CREATE DOMAIN shed.euro AS numeric(8, 2);

CREATE TABLE associations (id uuid PRIMARY KEY DEFAULT gen_random_uuid(), name text NOT NULL);
CREATE TABLE users (
  id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
  association_id uuid NOT NULL REFERENCES associations,
  email text NOT NULL UNIQUE,
  password_hash text NOT NULL,
  display_name varchar(80) NOT NULL,
  role text NOT NULL DEFAULT 'borrower' CHECK (role IN ('borrower', 'keeper')),
  created_at timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE shed.shelves (code text PRIMARY KEY, place text NOT NULL);
CREATE TABLE shed.tools (
  id uuid PRIMARY KEY DEFAULT gen_random_uuid(),
  association_id uuid NOT NULL REFERENCES associations,
  owner_id uuid NOT NULL REFERENCES users,
  name text NOT NULL,
  label char(6),
  shelf text REFERENCES shed.shelves,
  condition shed.condition NOT NULL DEFAULT 'new',
  visibility visibility NOT NULL DEFAULT 'private',
  deposit shed.euro,
  tags text[] NOT NULL DEFAULT '{}',
  manual jsonb,
  weight real,
  bought date,
  opens_at time(0),
  deleted_at timestamptz,
  search tsvector GENERATED ALWAYS AS (to_tsvector('simple', name)) STORED,
  shout text GENERATED ALWAYS AS (upper(name)) STORED,
  UNIQUE (name, owner_id)
);
CREATE TABLE shed.tool_shares (
  tool_id uuid NOT NULL REFERENCES shed.tools ON DELETE CASCADE,
  user_id uuid NOT NULL REFERENCES users,
  until date,
  PRIMARY KEY (tool_id, user_id)
);
CREATE TABLE shed.repairs (
  id bigserial PRIMARY KEY,
  association_id uuid NOT NULL REFERENCES associations,
  tool_id uuid NOT NULL REFERENCES shed.tools,
  reported_by uuid NOT NULL REFERENCES users,
  assigned_to uuid REFERENCES users,
  status text NOT NULL DEFAULT 'open',
  notes text,
  updated_at timestamp NOT NULL DEFAULT now()
);
CREATE TABLE shed.repair_parts (
  id bigserial PRIMARY KEY,
  repair_id bigint NOT NULL REFERENCES shed.repairs,
  part text NOT NULL,
  serial_numbers bigint[]
);
CREATE TABLE shed.readings (at timestamptz NOT NULL, tool_id uuid NOT NULL, hours int NOT NULL) PARTITION BY RANGE (at);
CREATE TABLE shed.readings_2026 PARTITION OF shed.readings FOR VALUES FROM ('2026-01-01') TO ('2027-01-01');

INSERT INTO associations VALUES
  ('a0000000-0000-4000-8000-000000000001', 'Korenveld'), ('a0000000-0000-4000-8000-000000000002', 'Molenzicht');
INSERT INTO users (id, association_id, email, password_hash, display_name, role) VALUES
  ('b0000000-0000-4000-8000-000000000001', 'a0000000-0000-4000-8000-000000000001', 'ana@example.org', 'x', 'Ana', 'keeper'),
  ('b0000000-0000-4000-8000-000000000002', 'a0000000-0000-4000-8000-000000000001', 'ben@example.org', 'x', 'Ben', 'borrower'),
  ('b0000000-0000-4000-8000-000000000003', 'a0000000-0000-4000-8000-000000000002', 'carla@example.org', 'x', 'Carla', 'borrower');
INSERT INTO shed.tools (id, association_id, owner_id, name, visibility, deleted_at) VALUES
  ('c0000000-0000-4000-8000-000000000001', 'a0000000-0000-4000-8000-000000000001', 'b0000000-0000-4000-8000-000000000001', 'Spade', 'private', NULL),
  ('c0000000-0000-4000-8000-000000000002', 'a0000000-0000-4000-8000-000000000001', 'b0000000-0000-4000-8000-000000000001', 'Rake', 'public', NULL),
  ('c0000000-0000-4000-8000-000000000003', 'a0000000-0000-4000-8000-000000000001', 'b0000000-0000-4000-8000-000000000002', 'Saw', 'private', now()),
  ('c0000000-0000-4000-8000-000000000004', 'a0000000-0000-4000-8000-000000000002', 'b0000000-0000-4000-8000-000000000003', 'Axe', 'public', NULL);
INSERT INTO shed.tool_shares VALUES ('c0000000-0000-4000-8000-000000000001', 'b0000000-0000-4000-8000-000000000002', NULL);
INSERT INTO shed.repairs (association_id, tool_id, reported_by, assigned_to) VALUES
  ('a0000000-0000-4000-8000-000000000001', 'c0000000-0000-4000-8000-000000000001', 'b0000000-0000-4000-8000-000000000002', 'b0000000-0000-4000-8000-000000000001');
INSERT INTO shed.repair_parts (repair_id, part, serial_numbers) VALUES (1, 'handle', '{9007199254740993}');
