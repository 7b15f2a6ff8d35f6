import django.contrib.postgres.fields
import django.db.models.deletion
from django.db import migrations, models


TABLES = """
CREATE TABLE readings_reading (
    interface_id bigint NOT NULL, at timestamptz NOT NULL,
    in_octets bigint NOT NULL, out_octets bigint NOT NULL, in_packets bigint NOT NULL, out_packets bigint NOT NULL,
    in_errors bigint NOT NULL, out_errors bigint NOT NULL, in_discards bigint NOT NULL, out_discards bigint NOT NULL,
    elapsed_ms integer NOT NULL, flags smallint NOT NULL, oper smallint NOT NULL,
    PRIMARY KEY (interface_id, at)
) PARTITION BY RANGE (at);
CREATE INDEX readings_reading_at ON readings_reading USING brin (at) WITH (pages_per_range = 16);
CREATE TABLE readings_componentreading (
    component_id bigint NOT NULL, at timestamptz NOT NULL, value double precision NOT NULL,
    PRIMARY KEY (component_id, at)
) PARTITION BY RANGE (at);
CREATE TABLE readings_devicereading (
    device_id bigint NOT NULL, at timestamptz NOT NULL, rtt_ms double precision NOT NULL, poll_ms double precision NOT NULL,
    PRIMARY KEY (device_id, at)
) PARTITION BY RANGE (at);
CREATE TABLE readings_hour (
    interface_id bigint NOT NULL, at timestamptz NOT NULL,
    in_octets bigint NOT NULL, out_octets bigint NOT NULL,
    bridged_in_octets bigint NOT NULL, bridged_out_octets bigint NOT NULL,
    in_packets bigint NOT NULL, out_packets bigint NOT NULL,
    in_errors bigint NOT NULL, out_errors bigint NOT NULL, in_discards bigint NOT NULL, out_discards bigint NOT NULL,
    elapsed_ms bigint NOT NULL, in_max_bps double precision, out_max_bps double precision,
    up_readings integer NOT NULL, readings integer NOT NULL, flags smallint NOT NULL,
    PRIMARY KEY (interface_id, at)
) PARTITION BY RANGE (at);
CREATE INDEX readings_hour_at ON readings_hour USING brin (at) WITH (pages_per_range = 16);
"""


class Migration(migrations.Migration):
    initial = True

    dependencies = [
        ("inventory", "0001_initial"),
    ]

    operations = [
        migrations.CreateModel(
            name="Newest",
            fields=[
                (
                    "interface",
                    models.OneToOneField(
                        on_delete=django.db.models.deletion.CASCADE,
                        primary_key=True,
                        related_name="newest",
                        serialize=False,
                        to="inventory.interface",
                    ),
                ),
                ("at", models.DateTimeField()),
                ("base_at", models.DateTimeField()),
                ("since", models.DateTimeField()),
                ("uptime", models.BigIntegerField()),
                ("discontinuity", models.BigIntegerField()),
                ("port_bps", models.BigIntegerField()),
                ("counters", django.contrib.postgres.fields.ArrayField(base_field=models.BigIntegerField(), size=12)),
                ("in_bps", models.FloatField(null=True)),
                ("out_bps", models.FloatField(null=True)),
                ("in_percent", models.FloatField(null=True)),
                ("out_percent", models.FloatField(null=True)),
                ("error_rate", models.FloatField(null=True)),
                ("flags", models.SmallIntegerField()),
                ("oper", models.SmallIntegerField()),
                ("admin", models.SmallIntegerField()),
                ("holds", models.SmallIntegerField()),
                ("moved", models.BooleanField()),
                ("present", models.BooleanField()),
                ("wide", models.BooleanField()),
            ],
        ),
        migrations.CreateModel(
            name="Gap",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("start", models.DateTimeField()),
                ("end", models.DateTimeField(null=True)),
                (
                    "reason",
                    models.CharField(
                        choices=[
                            ("silent", "no answer"),
                            ("collector", "collector not running"),
                            ("dropped", "read, but not kept"),
                        ],
                        max_length=10,
                    ),
                ),
                ("words", models.CharField(max_length=400)),
                (
                    "device",
                    models.ForeignKey(
                        null=True,
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="gaps",
                        to="inventory.device",
                    ),
                ),
            ],
            options={
                "indexes": [models.Index(fields=["device", "start"], name="readings_ga_device__56e673_idx")],
            },
        ),
        migrations.RunSQL(
            TABLES,
            reverse_sql="DROP TABLE readings_reading, readings_hour, readings_componentreading, readings_devicereading",
        ),
        migrations.SeparateDatabaseAndState(
            state_operations=[
                migrations.CreateModel(
                    name="ComponentReading",
                    fields=[
                        (
                            "pk",
                            models.CompositePrimaryKey(
                                "component_id", "at", blank=True, editable=False, primary_key=True, serialize=False
                            ),
                        ),
                        ("at", models.DateTimeField()),
                        ("value", models.FloatField()),
                        (
                            "component",
                            models.ForeignKey(
                                db_constraint=False,
                                db_index=False,
                                on_delete=django.db.models.deletion.DO_NOTHING,
                                to="inventory.component",
                            ),
                        ),
                    ],
                ),
                migrations.CreateModel(
                    name="DeviceReading",
                    fields=[
                        (
                            "pk",
                            models.CompositePrimaryKey(
                                "device_id", "at", blank=True, editable=False, primary_key=True, serialize=False
                            ),
                        ),
                        ("at", models.DateTimeField()),
                        ("rtt_ms", models.FloatField()),
                        ("poll_ms", models.FloatField()),
                        (
                            "device",
                            models.ForeignKey(
                                db_constraint=False,
                                db_index=False,
                                on_delete=django.db.models.deletion.DO_NOTHING,
                                to="inventory.device",
                            ),
                        ),
                    ],
                ),
                migrations.CreateModel(
                    name="Hour",
                    fields=[
                        (
                            "pk",
                            models.CompositePrimaryKey(
                                "interface_id", "at", blank=True, editable=False, primary_key=True, serialize=False
                            ),
                        ),
                        ("at", models.DateTimeField()),
                        ("in_octets", models.BigIntegerField()),
                        ("out_octets", models.BigIntegerField()),
                        ("bridged_in_octets", models.BigIntegerField()),
                        ("bridged_out_octets", models.BigIntegerField()),
                        ("in_packets", models.BigIntegerField()),
                        ("out_packets", models.BigIntegerField()),
                        ("in_errors", models.BigIntegerField()),
                        ("out_errors", models.BigIntegerField()),
                        ("in_discards", models.BigIntegerField()),
                        ("out_discards", models.BigIntegerField()),
                        ("elapsed_ms", models.BigIntegerField()),
                        ("in_max_bps", models.FloatField(null=True)),
                        ("out_max_bps", models.FloatField(null=True)),
                        ("up_readings", models.IntegerField()),
                        ("readings", models.IntegerField()),
                        ("flags", models.SmallIntegerField()),
                        (
                            "interface",
                            models.ForeignKey(
                                db_constraint=False,
                                db_index=False,
                                on_delete=django.db.models.deletion.DO_NOTHING,
                                to="inventory.interface",
                            ),
                        ),
                    ],
                ),
                migrations.CreateModel(
                    name="Reading",
                    fields=[
                        (
                            "pk",
                            models.CompositePrimaryKey(
                                "interface_id", "at", blank=True, editable=False, primary_key=True, serialize=False
                            ),
                        ),
                        ("at", models.DateTimeField()),
                        ("in_octets", models.BigIntegerField()),
                        ("out_octets", models.BigIntegerField()),
                        ("in_packets", models.BigIntegerField()),
                        ("out_packets", models.BigIntegerField()),
                        ("in_errors", models.BigIntegerField()),
                        ("out_errors", models.BigIntegerField()),
                        ("in_discards", models.BigIntegerField()),
                        ("out_discards", models.BigIntegerField()),
                        ("elapsed_ms", models.IntegerField()),
                        ("flags", models.SmallIntegerField()),
                        ("oper", models.SmallIntegerField()),
                        (
                            "interface",
                            models.ForeignKey(
                                db_constraint=False,
                                db_index=False,
                                on_delete=django.db.models.deletion.DO_NOTHING,
                                to="inventory.interface",
                            ),
                        ),
                    ],
                ),
            ]
        ),
        migrations.RunSQL("ALTER TABLE readings_newest SET (fillfactor = 50)", reverse_sql=migrations.RunSQL.noop),
    ]
