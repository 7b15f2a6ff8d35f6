import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("paths", "0003_service_classes"), ("inventory", "0025_last_gasps")]

    operations = [
        migrations.CreateModel(
            name="Move",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("at", models.DateTimeField(db_index=True)),
                ("why", models.CharField(blank=True, max_length=300)),
                (
                    "from_transport",
                    models.ForeignKey(
                        null=True, on_delete=django.db.models.deletion.CASCADE, related_name="+", to="paths.transport"
                    ),
                ),
                (
                    "site",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="+", to="inventory.site"
                    ),
                ),
                (
                    "to_transport",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="+", to="paths.transport"
                    ),
                ),
            ],
        ),
    ]
