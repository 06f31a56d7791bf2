"""What a casebook can become: tables, payloads, code, sketches, pages and parcels."""
