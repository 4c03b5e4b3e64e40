CREATE TABLE meta (key TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE exposures (
    path TEXT PRIMARY KEY,
    position INTEGER NOT NULL,
    size INTEGER NOT NULL,
    mtime_ns INTEGER NOT NULL,
    facts TEXT,
    reason TEXT NOT NULL DEFAULT ''
);
CREATE TABLE corrections (path TEXT NOT NULL, name TEXT NOT NULL, value TEXT NOT NULL, PRIMARY KEY (path, name));
CREATE TABLE left_out (path TEXT PRIMARY KEY, why TEXT NOT NULL);
CREATE TABLE findings (station TEXT NOT NULL, position INTEGER NOT NULL, body TEXT NOT NULL);
CREATE TABLE products (
    kind TEXT NOT NULL,
    source TEXT NOT NULL,
    output TEXT NOT NULL,
    body TEXT NOT NULL,
    PRIMARY KEY (kind, source)
);
CREATE TABLE stars (
    name TEXT PRIMARY KEY,
    position INTEGER NOT NULL,
    role TEXT NOT NULL,
    ra REAL,
    dec REAL,
    x REAL,
    y REAL
);
