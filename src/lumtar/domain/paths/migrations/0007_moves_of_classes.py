import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("paths", "0006_device_tests")]
    operations = [
        migrations.AddField(
            "move",
            "service_class",
            models.ForeignKey(
                null=True, on_delete=django.db.models.deletion.CASCADE, related_name="+", to="paths.serviceclass"
            ),
        ),
        migrations.AddField("move", "is_ruled", models.BooleanField(default=False)),
    ]
