import django.db.models.deletion
import django.utils.timezone
from django.db import migrations, models


class Migration(migrations.Migration):
    initial = True

    dependencies = []

    operations = [
        migrations.CreateModel(
            name="Credential",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("name", models.CharField(max_length=80, unique=True)),
                (
                    "kind",
                    models.CharField(choices=[("v2c", "SNMP version 2c"), ("v3", "SNMP version 3")], max_length=4),
                ),
                ("sealed", models.TextField()),
            ],
        ),
        migrations.CreateModel(
            name="Device",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("name", models.CharField(max_length=120)),
                ("address", models.CharField(max_length=253)),
                ("port", models.PositiveIntegerField(default=161)),
                ("interval_s", models.PositiveIntegerField(default=60)),
                ("timeout_s", models.FloatField(default=2.0)),
                ("tries", models.PositiveSmallIntegerField(default=3)),
                ("enabled", models.BooleanField(default=True)),
                ("added_at", models.DateTimeField(default=django.utils.timezone.now)),
                ("sys_name", models.CharField(blank=True, max_length=255)),
                ("sys_descr", models.CharField(blank=True, max_length=255)),
                ("sys_object_id", models.CharField(blank=True, max_length=255)),
                ("location", models.CharField(blank=True, max_length=255)),
                ("contact", models.CharField(blank=True, max_length=255)),
                ("maker", models.CharField(blank=True, max_length=255)),
                ("model", models.CharField(blank=True, max_length=255)),
                ("serial", models.CharField(blank=True, max_length=255)),
                ("software", models.CharField(blank=True, max_length=255)),
                (
                    "credential",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT, related_name="devices", to="inventory.credential"
                    ),
                ),
            ],
        ),
        migrations.CreateModel(
            name="Site",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("name", models.CharField(max_length=80, unique=True)),
            ],
        ),
        migrations.CreateModel(
            name="DeviceState",
            fields=[
                (
                    "device",
                    models.OneToOneField(
                        on_delete=django.db.models.deletion.CASCADE,
                        primary_key=True,
                        related_name="state",
                        serialize=False,
                        to="inventory.device",
                    ),
                ),
                (
                    "reach",
                    models.CharField(
                        choices=[("unknown", "not polled yet"), ("answers", "answers"), ("silent", "does not answer")],
                        default="unknown",
                        max_length=8,
                    ),
                ),
                ("since", models.DateTimeField(null=True)),
                ("reason_kind", models.CharField(blank=True, max_length=24)),
                ("reason", models.CharField(blank=True, max_length=400)),
                ("silent_polls", models.PositiveIntegerField(default=0)),
                ("polled_at", models.DateTimeField(null=True)),
                ("answered_at", models.DateTimeField(null=True)),
                ("next_poll_at", models.DateTimeField(null=True)),
                ("started_at", models.DateTimeField(null=True)),
                ("rtt_ms", models.FloatField(null=True)),
                ("poll_ms", models.FloatField(null=True)),
            ],
        ),
        migrations.CreateModel(
            name="Interface",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("if_index", models.BigIntegerField()),
                ("name", models.CharField(blank=True, max_length=255)),
                ("descr", models.CharField(blank=True, max_length=255)),
                ("alias", models.CharField(blank=True, max_length=255)),
                ("label", models.CharField(blank=True, max_length=255)),
                ("if_type", models.IntegerField(default=0)),
                ("mac", models.CharField(blank=True, max_length=17)),
                ("in_override_bps", models.BigIntegerField(null=True)),
                ("out_override_bps", models.BigIntegerField(null=True)),
                ("first_seen", models.DateTimeField(default=django.utils.timezone.now)),
                ("gone_at", models.DateTimeField(null=True)),
                (
                    "device",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="interfaces", to="inventory.device"
                    ),
                ),
            ],
        ),
        migrations.CreateModel(
            name="InterfaceSpeed",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("since", models.DateTimeField()),
                ("port_bps", models.BigIntegerField()),
                ("in_bps", models.BigIntegerField()),
                ("out_bps", models.BigIntegerField()),
                ("in_source", models.CharField(max_length=12)),
                ("out_source", models.CharField(max_length=12)),
                (
                    "interface",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="speeds", to="inventory.interface"
                    ),
                ),
            ],
        ),
        migrations.AddField(
            model_name="device",
            name="site",
            field=models.ForeignKey(
                null=True, on_delete=django.db.models.deletion.SET_NULL, related_name="devices", to="inventory.site"
            ),
        ),
        migrations.CreateModel(
            name="Component",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("kind", models.CharField(choices=[("processor", "processor"), ("sensor", "sensor")], max_length=10)),
                ("index", models.BigIntegerField()),
                ("name", models.CharField(max_length=255)),
                ("unit", models.CharField(blank=True, max_length=16)),
                ("scale", models.FloatField(default=1.0)),
                (
                    "device",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="components", to="inventory.device"
                    ),
                ),
            ],
            options={
                "constraints": [
                    models.UniqueConstraint(fields=("device", "kind", "index"), name="one_component_an_index")
                ],
            },
        ),
        migrations.AddConstraint(
            model_name="interface",
            constraint=models.UniqueConstraint(fields=("device", "if_index"), name="one_interface_an_index"),
        ),
        migrations.AddIndex(
            model_name="interfacespeed",
            index=models.Index(fields=["interface", "-since"], name="inventory_i_interfa_a39786_idx"),
        ),
        migrations.AddConstraint(
            model_name="device",
            constraint=models.UniqueConstraint(fields=("address", "port"), name="one_device_an_address_and_port"),
        ),
    ]
