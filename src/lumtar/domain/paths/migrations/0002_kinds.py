from django.db import migrations, models

TABLES = ("paths_minute", "paths_hour")
PARTS = ("lookup", "connected", "secured", "first_octet", "certificate_days")
MORE = "ALTER TABLE {} ADD COLUMN wrong integer NOT NULL DEFAULT 0, " + ", ".join(
    f"ADD COLUMN {name} float8 NOT NULL DEFAULT 'NaN'" for name in PARTS
)
LESS = "ALTER TABLE {} DROP COLUMN wrong, " + ", ".join(f"DROP COLUMN {name}" for name in PARTS)


class Migration(migrations.Migration):
    dependencies = [("paths", "0001_initial")]

    operations = [
        migrations.AddField("path", "kind", models.CharField(default="stamp", max_length=10)),
        migrations.AddField(
            "path", "asked", models.CharField(blank=True, max_length=300, default=""), preserve_default=False
        ),
        migrations.AddField(
            "path", "expected", models.CharField(blank=True, max_length=200, default=""), preserve_default=False
        ),
        migrations.AddField("path", "verifies", models.BooleanField(default=True)),
        migrations.AlterField("path", "address", models.GenericIPAddressField(null=True)),
        migrations.SeparateDatabaseAndState(
            [migrations.RunSQL(MORE.format(table), LESS.format(table)) for table in TABLES],
            [
                *(
                    migrations.AddField(model, "wrong", models.IntegerField(default=0), preserve_default=False)
                    for model in ("minute", "hour")
                ),
                *(
                    migrations.AddField(model, name, models.FloatField(default=0), preserve_default=False)
                    for model in ("minute", "hour")
                    for name in PARTS
                ),
            ],
        ),
    ]
