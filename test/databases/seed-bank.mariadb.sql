-- A bank of seeds, kept since long ago: keys of several columns, char columns, MariaDB's own enums and flags.
CREATE TABLE growers (
  grower_no CHAR(6) NOT NULL PRIMARY KEY,
  name VARCHAR(120) NOT NULL,
  e_mail VARCHAR(190) UNIQUE,
  is_active TINYINT(1) NOT NULL DEFAULT 1,
  joined DATETIME NOT NULL DEFAULT CURRENT_TIMESTAMP
) CHARACTER SET utf8mb4;
CREATE TABLE varieties (
  species CHAR(3) NOT NULL,
  variety_no SMALLINT UNSIGNED NOT NULL,
  name VARCHAR(120) NOT NULL,
  kind ENUM('open', 'hybrid', 'it''s unknown') NOT NULL,
  owner_no CHAR(6) NOT NULL,
  sowing_depth DECIMAL(4, 1),
  weight FLOAT,
  flags SET('rare', 'tested'),
  passport JSON,
  PRIMARY KEY (species, variety_no),
  CONSTRAINT variety_owner FOREIGN KEY (owner_no) REFERENCES growers (grower_no)
) CHARACTER SET utf8mb4;
CREATE TABLE lots (
  lot_id BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY,
  species CHAR(3) NOT NULL,
  variety_no SMALLINT UNSIGNED NOT NULL,
  grower_no CHAR(6) NOT NULL,
  grams INT NOT NULL,
  harvested DATE,
  changed_at TIMESTAMP NOT NULL DEFAULT CURRENT_TIMESTAMP ON UPDATE CURRENT_TIMESTAMP,
  ounces DOUBLE GENERATED ALWAYS AS (grams / 28.35) STORED,
  CONSTRAINT lot_variety FOREIGN KEY (species, variety_no) REFERENCES varieties (species, variety_no),
  CONSTRAINT lot_grower FOREIGN KEY (grower_no) REFERENCES growers (grower_no)
) CHARACTER SET utf8mb4;
CREATE TABLE lot_readers (
  lot_id BIGINT NOT NULL,
  grower_no CHAR(6) NOT NULL,
  PRIMARY KEY (lot_id, grower_no),
  CONSTRAINT reader_lot FOREIGN KEY (lot_id) REFERENCES lots (lot_id),
  CONSTRAINT reader_grower FOREIGN KEY (grower_no) REFERENCES growers (grower_no)
) CHARACTER SET utf8mb4;
INSERT INTO growers (grower_no, name, e_mail) VALUES ('G1', 'Ana', 'ana@example.org'), ('G2', 'Ben', 'ben@example.org'), ('G3', 'Carla', NULL);
INSERT INTO varieties (species, variety_no, name, kind, owner_no) VALUES ('BEA', 1, 'Runner', 'open', 'G1'), ('BEA', 2, 'Dwarf', 'hybrid', 'G2');
INSERT INTO lots (species, variety_no, grower_no, grams) VALUES ('BEA', 1, 'G1', 100), ('BEA', 2, 'G2', 50), ('BEA', 2, 'g2', 5);
INSERT INTO lot_readers VALUES (2, 'G1');
