ALTER TABLE products ADD COLUMN series TEXT NOT NULL DEFAULT '';
ALTER TABLE findings ADD COLUMN series TEXT NOT NULL DEFAULT '';
CREATE TABLE stars_of_fields (
    field TEXT NOT NULL,
    name TEXT NOT NULL,
    position INTEGER NOT NULL,
    role TEXT NOT NULL,
    ra REAL,
    dec REAL,
    x REAL,
    y REAL,
    PRIMARY KEY (field, name)
);
INSERT INTO stars_of_fields SELECT '~', name, position, role, ra, dec, x, y FROM stars;
DROP TABLE stars;
ALTER TABLE stars_of_fields RENAME TO stars;
INSERT OR REPLACE INTO meta SELECT 'before_series', 'true' WHERE EXISTS (SELECT 1 FROM exposures);
