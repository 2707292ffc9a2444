"""What is kept, and how: tables, day files, batches, the server."""
