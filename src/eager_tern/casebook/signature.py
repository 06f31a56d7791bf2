"""What tells a casebook's file from others: known without SQLite."""

SUFFIX = ".tern"
MAGIC = b"SQLite format 3\0"
