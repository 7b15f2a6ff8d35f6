from django.db import migrations

# The hours that may not have been summed up when the version before ended.
LAST_HOURS = """INSERT INTO operation_duesum (what, at)
    SELECT what, hour FROM unnest(ARRAY['flows: hours', 'flows: response hours']) AS what,
        generate_series(date_trunc('hour', now(), 'UTC') - interval '5 hours', now(), '1 hour') AS hour
    ON CONFLICT DO NOTHING"""


class Migration(migrations.Migration):
    dependencies = [("flows", "0010_server_names"), ("operation", "0004_due_sums")]

    operations = [migrations.RunSQL(LAST_HOURS, migrations.RunSQL.noop)]
