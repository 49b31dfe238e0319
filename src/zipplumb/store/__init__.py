"""The PostgreSQL database: mapping, sessions, cluster, migrations."""
