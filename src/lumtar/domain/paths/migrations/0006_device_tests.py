import django.contrib.postgres.fields
import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("inventory", "0025_last_gasps"), ("paths", "0005_traced_routes")]
    operations = [
        migrations.AddField(
            "path",
            "device",
            models.ForeignKey(
                null=True, on_delete=django.db.models.deletion.SET_NULL, related_name="+", to="inventory.device"
            ),
        ),
        migrations.AddField("path", "told_number", models.BigIntegerField(default=0)),
        migrations.AddField(
            "path",
            "groups",
            django.contrib.postgres.fields.ArrayField(models.CharField(max_length=80), default=list),
        ),
    ]
