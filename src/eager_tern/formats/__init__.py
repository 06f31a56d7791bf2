"""Files in and out, one module a format, one registry."""
