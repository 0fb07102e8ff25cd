"""The catalogue's tables, and the way from each earlier form of them to the next."""

VERSION = 7

_IMAGES = """
CREATE TABLE images (
    id INTEGER PRIMARY KEY,
    file TEXT NOT NULL,
    class INTEGER NOT NULL REFERENCES classes (id),
    given_set TEXT CHECK (given_set IN ('training', 'validation', 'test', 'gone')),
    width INTEGER NOT NULL,
    height INTEGER NOT NULL,
    mode TEXT NOT NULL,
    bytes INTEGER NOT NULL,
    part TEXT NOT NULL DEFAULT '',
    place INTEGER NOT NULL DEFAULT -1,
    origin INTEGER NOT NULL DEFAULT 1 REFERENCES origins (id),
    UNIQUE (file, part, place)
);
"""

_ADDED = """
CREATE TABLE origins (id INTEGER PRIMARY KEY, kind TEXT NOT NULL, place TEXT NOT NULL, reading TEXT NOT NULL);
CREATE TABLE corrections (
    image INTEGER PRIMARY KEY REFERENCES images (id),
    class INTEGER REFERENCES classes (id),
    set_name TEXT CHECK (set_name IN ('training', 'validation', 'test', 'excluded')),
    flagged INTEGER NOT NULL
);
CREATE TABLE copies (image INTEGER PRIMARY KEY REFERENCES images (id), belongs INTEGER NOT NULL);
"""

_CONTENTS = """
ALTER TABLE images ADD COLUMN digest INTEGER NOT NULL DEFAULT 0;
ALTER TABLE images ADD COLUMN changed INTEGER NOT NULL DEFAULT 0;
"""

_FORMER = """
CREATE TABLE former_names (name TEXT PRIMARY KEY, class INTEGER NOT NULL REFERENCES classes (id));
"""

_COLUMNS = """
CREATE TABLE columns (name TEXT NOT NULL, image INTEGER NOT NULL, value TEXT NOT NULL, PRIMARY KEY (name, image));
CREATE TABLE column_tables (place TEXT NOT NULL, joined TEXT NOT NULL);
"""

_BEYOND = """
ALTER TABLE images ADD COLUMN beyond INTEGER NOT NULL DEFAULT 0;
"""

_OUTLINES = """
ALTER TABLE corrections ADD COLUMN polygons TEXT;
ALTER TABLE corrections ADD COLUMN runs BLOB;
CREATE TABLE outlines (image INTEGER PRIMARY KEY, polygons TEXT NOT NULL, runs BLOB NOT NULL);
CREATE TABLE outline_places (place TEXT NOT NULL);
"""

SCHEMA = f"""
CREATE TABLE classes (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE);
CREATE TABLE skipped (file TEXT NOT NULL, reason TEXT NOT NULL);
{_ADDED}
{_IMAGES}
{_CONTENTS}
{_FORMER}
{_COLUMNS}
{_BEYOND}
{_OUTLINES}
"""

MIGRATIONS = {
    1: f"""
{_ADDED}
INSERT INTO origins VALUES (1, 'folders', '', '{{}}');
ALTER TABLE images RENAME TO images_before;
{_IMAGES}
INSERT INTO images (id, file, class, given_set, width, height, mode, bytes)
    SELECT id, file, class, given_set, width, height, mode, bytes FROM images_before;
DROP TABLE images_before;
""",
    2: _CONTENTS,
    3: _FORMER,
    4: _COLUMNS,
    5: _BEYOND,
    6: _OUTLINES,
}
"""By the version they start from."""
