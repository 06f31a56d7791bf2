-- The casebook, schema 6. docs/casebook.md explains it.

CREATE TABLE gadget (
    id    INTEGER PRIMARY KEY,
    name  TEXT NOT NULL,
    about TEXT NOT NULL DEFAULT ''
);

-- A recording. path is the file it was read from, where its samples can be looked at again; measured (of its carrier and
-- faint frames) and by_hand (what the user overruled) are JSON, see docs/casebook.md.
CREATE TABLE take (
    id             INTEGER PRIMARY KEY,
    gadget_id      INTEGER NOT NULL REFERENCES gadget (id),
    source         TEXT NOT NULL,          -- a file's name or a device
    format         TEXT NOT NULL,
    started_at     REAL NOT NULL,          -- seconds since 1970, UTC
    sample_rate_hz REAL,
    polarity       TEXT,
    carrier_hz     REAL,
    path           TEXT NOT NULL DEFAULT '',
    channel        INTEGER,
    measured       TEXT NOT NULL DEFAULT '',
    by_hand        TEXT NOT NULL DEFAULT '',
    cut            INTEGER NOT NULL DEFAULT 0,  -- begins within a mark: its first burst may be the rest of a frame
    read_whole     INTEGER NOT NULL DEFAULT 1,  -- 0: there are durations that nobody has read yet
    hidden         INTEGER NOT NULL DEFAULT 0   -- another take of the same recording stands in its place
);

-- Raw durations as they came, never changed: little-endian float64, µs, marks positive, spaces negative.
CREATE TABLE chunk (
    take_id   INTEGER NOT NULL REFERENCES take (id),
    number    INTEGER NOT NULL,
    durations BLOB NOT NULL,
    PRIMARY KEY (take_id, number)
) WITHOUT ROWID;

-- A press or a stray. What was read is kept so that a large casebook opens at once; it can be made again from the chunks.
CREATE TABLE press (
    id        INTEGER PRIMARY KEY,
    take_id   INTEGER NOT NULL REFERENCES take (id),
    first     INTEGER NOT NULL,            -- when it begins, µs from the start of the take
    stray     INTEGER NOT NULL DEFAULT 0,
    caught_at REAL NOT NULL,
    label     TEXT NOT NULL DEFAULT '',
    deleted   INTEGER NOT NULL DEFAULT 0,  -- 1: by the user, 2: is no press any more as the take is now read
    reading   TEXT NOT NULL,               -- JSON, see docs/casebook.md
    handed_on INTEGER NOT NULL DEFAULT 0,  -- 1: its label is that of another press which it stands in the place of
    UNIQUE (take_id, first)
);

-- Keys of the handset and their places on its plate.
CREATE TABLE key (
    gadget_id INTEGER NOT NULL REFERENCES gadget (id),
    name      TEXT NOT NULL,
    place_row INTEGER NOT NULL,
    place_col INTEGER NOT NULL,
    PRIMARY KEY (gadget_id, name)
) WITHOUT ROWID;

CREATE TABLE sheet (
    gadget_id INTEGER NOT NULL REFERENCES gadget (id),
    id        TEXT NOT NULL,
    text      TEXT NOT NULL,
    PRIMARY KEY (gadget_id, id)
) WITHOUT ROWID;

-- The presses planned, in order. What each is to be called: JSON, a list of pairs of a name and a value.
CREATE TABLE shot (
    gadget_id INTEGER NOT NULL REFERENCES gadget (id),
    number    INTEGER NOT NULL,
    labels    TEXT NOT NULL,
    press_id  INTEGER REFERENCES press (id),
    skipped   INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (gadget_id, number)
) WITHOUT ROWID;

-- What is said to the gadget: a routine as it was typed, and the sweep that goes through it (JSON), where there is one.
CREATE TABLE routine (
    gadget_id INTEGER PRIMARY KEY REFERENCES gadget (id),
    text      TEXT NOT NULL,
    sweep     TEXT NOT NULL DEFAULT ''
);

-- Findings about the gadget's frames that the user does not believe, by what tells a finding from all others.
CREATE TABLE dismissed (
    gadget_id INTEGER NOT NULL REFERENCES gadget (id),
    finding   TEXT NOT NULL,
    PRIMARY KEY (gadget_id, finding)
) WITHOUT ROWID;
