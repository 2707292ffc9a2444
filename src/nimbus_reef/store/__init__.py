"""
What is kept: MariaDB is the record, columnar day files are made from it.

The only package that knows SQLAlchemy.
"""
