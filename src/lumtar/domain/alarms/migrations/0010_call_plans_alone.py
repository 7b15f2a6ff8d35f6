from django.db import migrations, models


class Migration(migrations.Migration):
    """What was carried over goes; a migration of its own, since PostgreSQL changes no table that has pending events."""

    dependencies = [("alarms", "0009_call_plans")]

    operations = [
        migrations.RemoveField("rule", "mail_to"),
        migrations.RemoveField("notification", "state"),
        migrations.RemoveField("notification", "at"),
        migrations.RemoveField("notification", "sent_at"),
        migrations.RemoveField("notification", "detail"),
        migrations.AlterField("notification", "contact", models.CharField(max_length=80)),
        migrations.AlterField("notification", "channel", models.CharField(max_length=16)),
        migrations.AlterField("notification", "due_at", models.DateTimeField()),
        migrations.AddConstraint(
            "notification",
            models.UniqueConstraint(
                fields=["change", "address", "step", "round"], name="one_notification_a_change_and_step"
            ),
        ),
        migrations.AddIndex(
            "notification",
            models.Index(
                condition=models.Q(message=None), fields=["address", "due_at"], name="notifications_that_wait"
            ),
        ),
    ]
