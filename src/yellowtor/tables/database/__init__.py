"""Tables, views and queries of SQLite, PostgreSQL and MariaDB."""
