"""Catalog: what is advertised, before any keyword is touched."""
