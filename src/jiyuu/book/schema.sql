-- Tables of a book, version 2. docs/formats.md explains them.
CREATE TABLE filters (
    id INTEGER PRIMARY KEY,
    letter TEXT NOT NULL UNIQUE,
    document TEXT NOT NULL,            -- the filter file, JSON
    seed INTEGER,                      -- of the simulated unit; NULL when a real one is measured
    shown INTEGER NOT NULL DEFAULT 1,  -- 0 once it was taken off the shelf
    created_at TEXT NOT NULL
);
CREATE TABLE settings (                -- what controls and steps stand at, newest action applied
    filter_id INTEGER NOT NULL REFERENCES filters(id),
    name TEXT NOT NULL,
    value TEXT NOT NULL,               -- JSON
    PRIMARY KEY (filter_id, name)
) WITHOUT ROWID;
CREATE TABLE runs (
    id INTEGER PRIMARY KEY,
    filter_id INTEGER NOT NULL REFERENCES filters(id),
    step TEXT NOT NULL,                -- key of the step: 'response', 'self_oscillation'
    mode TEXT,                         -- the output that was measured
    standing TEXT NOT NULL,            -- JSON: the filter as it stood
    setting TEXT NOT NULL,             -- JSON: what the step was asked
    facts TEXT NOT NULL,               -- JSON: single values that are neither table nor finding
    source TEXT NOT NULL,              -- 'simulated rig', or the names of the files
    shown INTEGER NOT NULL DEFAULT 1,  -- 0 once it was put aside
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
CREATE TABLE tables (                  -- what was computed from the records
    run_id INTEGER NOT NULL REFERENCES runs(id),
    name TEXT NOT NULL,                -- 'response', 'pull', 'tracking'
    columns TEXT NOT NULL,             -- JSON: [[name, unit], …]
    length INTEGER NOT NULL,
    numbers BLOB NOT NULL,             -- float64, little-endian, one column after the other; NaN where there is none
    PRIMARY KEY (run_id, name)
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
    context TEXT,                      -- JSON: what the sentence needs besides the number
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
CREATE TABLE enclosures (              -- pictures and recordings beside a note, as their files were
    note_id INTEGER PRIMARY KEY REFERENCES notes(id),
    name TEXT NOT NULL,                -- of the file
    media TEXT NOT NULL,               -- 'image/png', 'audio/wav'
    content BLOB NOT NULL
);
CREATE TABLE actions (                 -- everything a person did, for undo and redo
    id INTEGER PRIMARY KEY,
    kind TEXT NOT NULL,                -- 'set', 'keep', 'note', 'filter', 'run'
    before TEXT NOT NULL,              -- JSON
    after TEXT NOT NULL,               -- JSON
    undone INTEGER NOT NULL DEFAULT 0, -- 1 while it is taken back, 2 once something else was done instead
    done_at TEXT NOT NULL
);
CREATE INDEX findings_of_filter ON findings (filter_id, kept);
CREATE INDEX findings_of_run ON findings (run_id);
CREATE INDEX runs_of_filter ON runs (filter_id, step);
