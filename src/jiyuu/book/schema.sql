-- Tables of a book, version 1. docs/formats.md explains them.
CREATE TABLE filters (
    id INTEGER PRIMARY KEY,
    letter TEXT NOT NULL UNIQUE,
    document TEXT NOT NULL,            -- the filter file, JSON
    seed INTEGER,                      -- of the simulated unit; NULL when a real one is measured
    created_at TEXT NOT NULL
);
CREATE TABLE settings (                -- what the controls of a step stand at, newest action applied
    filter_id INTEGER NOT NULL REFERENCES filters(id),
    name TEXT NOT NULL,
    value TEXT NOT NULL,               -- JSON
    PRIMARY KEY (filter_id, name)
) WITHOUT ROWID;
CREATE TABLE runs (
    id INTEGER PRIMARY KEY,
    filter_id INTEGER NOT NULL REFERENCES filters(id),
    step TEXT NOT NULL,
    settings TEXT NOT NULL,            -- JSON: what was set when it was made
    source TEXT NOT NULL,              -- 'simulated rig', or the names of the files
    made_at TEXT NOT NULL
);
CREATE TABLE records (                 -- raw records of a run, never changed
    run_id INTEGER NOT NULL REFERENCES runs(id),
    name TEXT NOT NULL,                -- 'stimulus', 'recording'
    sample_rate_hz REAL NOT NULL,
    samples INTEGER NOT NULL,
    volts BLOB NOT NULL,               -- float32, little-endian
    PRIMARY KEY (run_id, name)
);
CREATE TABLE curves (                  -- what was computed from the records, one row a run
    run_id INTEGER PRIMARY KEY REFERENCES runs(id),
    points INTEGER NOT NULL,
    frequency_hz BLOB NOT NULL,        -- float64, little-endian, as the next four
    level_db BLOB NOT NULL,
    phase_deg BLOB NOT NULL,
    uncertainty_db BLOB NOT NULL,
    snr_db BLOB NOT NULL
);
CREATE TABLE findings (
    id INTEGER PRIMARY KEY,
    filter_id INTEGER NOT NULL REFERENCES filters(id),
    run_id INTEGER REFERENCES runs(id),
    step TEXT NOT NULL,
    quantity TEXT NOT NULL,
    value REAL NOT NULL,
    unit TEXT NOT NULL,
    uncertainty REAL,
    tolerance_low REAL,
    tolerance_high REAL,
    sentence TEXT NOT NULL,
    settings TEXT NOT NULL,            -- JSON
    kept INTEGER NOT NULL DEFAULT 0,   -- 1 while it stands in the logbook
    kept_at TEXT
);
CREATE TABLE notes (
    id INTEGER PRIMARY KEY,
    filter_id INTEGER REFERENCES filters(id),
    text TEXT NOT NULL,
    shown INTEGER NOT NULL DEFAULT 1,
    made_at TEXT NOT NULL
);
CREATE TABLE actions (                 -- everything a person did, for undo and redo
    id INTEGER PRIMARY KEY,
    kind TEXT NOT NULL,                -- 'set', 'keep', 'note'
    before TEXT NOT NULL,              -- JSON
    after TEXT NOT NULL,               -- JSON
    undone INTEGER NOT NULL DEFAULT 0,
    done_at TEXT NOT NULL
);
CREATE INDEX findings_of_filter ON findings (filter_id, kept);
CREATE INDEX runs_of_filter ON runs (filter_id, step);
