from django.db import migrations

APART = """
DO $$
DECLARE
    piece record;
BEGIN
    CREATE TEMP TABLE pieces ON COMMIT DROP AS
        SELECT inhrelid::regclass::text AS name, pg_get_expr(relpartbound, inhrelid) AS bounds
        FROM pg_inherits JOIN pg_class ON oid = inhrelid WHERE inhparent = 'readings_reading'::regclass;
    FOR piece IN SELECT * FROM pieces LOOP
        EXECUTE format('ALTER TABLE readings_reading DETACH PARTITION %s', piece.name);
    END LOOP;
    ALTER TABLE readings_reading DROP CONSTRAINT readings_reading_pkey;
    DROP INDEX readings_reading_at;
    FOR piece IN
        SELECT indexrelid::regclass AS name FROM pg_index JOIN pg_class ON oid = indexrelid JOIN pg_am am ON am.oid = relam
        WHERE indrelid IN (SELECT name::regclass FROM pieces) AND amname = 'brin'
    LOOP
        EXECUTE format('DROP INDEX %s', piece.name);
    END LOOP;
    FOR piece IN SELECT * FROM pieces LOOP
        EXECUTE format('ALTER TABLE readings_reading ATTACH PARTITION %s %s', piece.name, piece.bounds);
    END LOOP;
    DROP TABLE pieces;
END $$
"""
TOGETHER = """
ALTER TABLE readings_reading ADD PRIMARY KEY (interface_id, at);
CREATE INDEX readings_reading_at ON readings_reading USING brin (at) WITH (pages_per_range = 16);
"""


class Migration(migrations.Migration):
    """Each piece of the readings has indexes of its own (see partitions.py): those that there are keep their primary key."""

    dependencies = [
        ("readings", "0005_ethernet_errors"),
    ]

    operations = [migrations.RunSQL(APART, reverse_sql=TOGETHER)]
