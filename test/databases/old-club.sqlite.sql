-- An old club's book, untidy: mixed case, reserved words as names, hardly a foreign key, a view, a table without a key.
CREATE TABLE "Member" ("MemberID" INTEGER PRIMARY KEY, "Full Name" TEXT NOT NULL, "EMail" TEXT, "order" INTEGER, "IsAdmin" BOOLEAN NOT NULL DEFAULT 0);
CREATE TABLE "Group" ("ID" INTEGER PRIMARY KEY, "select" TEXT NOT NULL, "public" BOOLEAN NOT NULL DEFAULT 0);
CREATE TABLE "table" (
  "key" TEXT PRIMARY KEY, "GROUP_ID" INTEGER, "OwnerID" INTEGER NOT NULL, "Owner" TEXT, "when" DATETIME,
  "Added" DATETIME DEFAULT CURRENT_TIMESTAMP, "size" DECIMAL(8,2), "state" TEXT NOT NULL CHECK ("state" IN ('free', 'it''s let'))
);
CREATE TABLE "Post" ("id" INTEGER PRIMARY KEY, "author_id" INTEGER NOT NULL REFERENCES "Member", "authorId" TEXT, "Text" TEXT, "1st" INTEGER, "naïve" TEXT);
CREATE TABLE "log" ("at" TEXT, "what" TEXT);
CREATE VIEW "Free Tables" AS SELECT * FROM "table" WHERE "state" = 'free';
INSERT INTO "Member" VALUES (1, 'Ana', 'ana@example.org', 1, 1), (2, 'Ben', NULL, 2, 0);
INSERT INTO "Group" VALUES (1, 'Gardeners', 1);
INSERT INTO "table" VALUES ('a', 1, 1, 'Ana', '2026-01-01T10:00:00.000Z', '2026-01-01 10:00:00', 12.5, 'free'), ('b', NULL, 2, 'Ben', NULL, NULL, 3, 'it''s let');
INSERT INTO "Post" VALUES (1, 1, 'x', 'Hello', 1, 'y'), (2, 2, 'x', 'Hi', 1, 'y');
