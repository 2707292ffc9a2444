"""Long work, done by worker processes: progress and results live in MariaDB."""
