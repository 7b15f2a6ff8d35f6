from django.db import migrations

TABLE = """CREATE TABLE {table} (LIKE paths_hour INCLUDING DEFAULTS) PARTITION BY RANGE (at);
CREATE INDEX ON {table} (path_id, at); CREATE INDEX ON {table} USING brin (at) WITH (pages_per_range = 16)"""
# What there is already is summed up to the new levels, and the last hours are anew.
DUE = """INSERT INTO operation_duesum (what, at) SELECT what, at FROM (VALUES
        ('paths: five minutes', interval '36 days', interval '5 minutes'), ('paths: days', interval '830 days', interval '1 day'),
        ('paths: hours', interval '5 hours', interval '1 hour'), ('paths: judged hours', interval '5 hours', interval '1 hour')
    ) AS levels (what, ago, length), generate_series(date_trunc('day', now() - ago, 'UTC'), now(), length) AS at
    WHERE EXISTS (SELECT FROM paths_path) ON CONFLICT DO NOTHING"""


class Migration(migrations.Migration):
    dependencies = [("paths", "0007_moves_of_classes"), ("operation", "0004_due_sums")]

    operations = [
        *(
            migrations.RunSQL(TABLE.format(table=table), f"DROP TABLE {table}")
            for table in ("paths_fiveminutes", "paths_day")
        ),
        migrations.RunSQL(DUE, migrations.RunSQL.noop),
    ]
