import django.db.models.deletion
from django.db import migrations, models

COUNTS = (
    "judged",
    "missed",
    "available",
    "excluded",
    "delay_missed",
    "jitter_missed",
    "variation_missed",
    "loss_missed",
    "mos_missed",
    "failed_missed",
)
TABLE = """CREATE TABLE paths_judged (
    path_id bigint NOT NULL, at timestamptz NOT NULL, service_class_id bigint NOT NULL, share float8 NOT NULL, {counts}
) PARTITION BY RANGE (at);
CREATE INDEX ON paths_judged (path_id, at); CREATE INDEX ON paths_judged USING brin (at) WITH (pages_per_range = 16)""".format(
    counts=", ".join(f"{name} smallint NOT NULL" for name in COUNTS)
)


def id_field():
    return ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID"))


class Migration(migrations.Migration):
    dependencies = [("paths", "0002_kinds"), ("inventory", "0025_last_gasps")]

    operations = [
        migrations.CreateModel(
            name="ServiceClass",
            fields=[
                id_field(),
                ("name", models.CharField(max_length=120, unique=True)),
                ("limits", models.JSONField(default=dict)),
                ("share", models.FloatField(default=99.0)),
                ("hours", models.CharField(blank=True, max_length=300)),
                ("zone", models.CharField(default="UTC", max_length=60)),
            ],
        ),
        migrations.CreateModel(
            name="Transport",
            fields=[
                id_field(),
                ("name", models.CharField(max_length=120, unique=True)),
                ("provider", models.CharField(max_length=120)),
                ("down_bps", models.BigIntegerField(null=True)),
                ("up_bps", models.BigIntegerField(null=True)),
                ("price", models.DecimalField(decimal_places=2, max_digits=12, null=True)),
                ("currency", models.CharField(blank=True, max_length=3)),
                (
                    "interface",
                    models.ForeignKey(
                        null=True,
                        on_delete=django.db.models.deletion.SET_NULL,
                        related_name="+",
                        to="inventory.interface",
                    ),
                ),
                (
                    "site",
                    models.ForeignKey(
                        null=True, on_delete=django.db.models.deletion.SET_NULL, related_name="+", to="inventory.site"
                    ),
                ),
            ],
        ),
        migrations.AddField(
            "path",
            "service_class",
            models.ForeignKey(
                null=True, on_delete=django.db.models.deletion.SET_NULL, related_name="paths", to="paths.serviceclass"
            ),
        ),
        migrations.AddField(
            "path",
            "transport",
            models.ForeignKey(
                null=True, on_delete=django.db.models.deletion.SET_NULL, related_name="paths", to="paths.transport"
            ),
        ),
        migrations.SeparateDatabaseAndState(
            [migrations.RunSQL(TABLE, "DROP TABLE paths_judged")],
            [
                migrations.CreateModel(
                    name="Judged",
                    fields=[
                        (
                            "pk",
                            models.CompositePrimaryKey(
                                "path_id", "at", blank=True, editable=False, primary_key=True, serialize=False
                            ),
                        ),
                        ("at", models.DateTimeField()),
                        ("share", models.FloatField()),
                        *((name, models.SmallIntegerField()) for name in COUNTS),
                        (
                            "path",
                            models.ForeignKey(
                                db_constraint=False,
                                db_index=False,
                                on_delete=django.db.models.deletion.DO_NOTHING,
                                related_name="+",
                                to="paths.path",
                            ),
                        ),
                        (
                            "service_class",
                            models.ForeignKey(
                                db_constraint=False,
                                db_index=False,
                                on_delete=django.db.models.deletion.DO_NOTHING,
                                related_name="+",
                                to="paths.serviceclass",
                            ),
                        ),
                    ],
                    options={"db_table": "paths_judged"},
                ),
            ],
        ),
    ]
