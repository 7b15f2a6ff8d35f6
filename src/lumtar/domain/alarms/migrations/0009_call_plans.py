import json

import django.db.models.deletion
from django.db import migrations, models

STATES = [("pending", "waiting to be sent"), ("sending", "being sent"), ("sent", "sent"), ("failed", "not sent")]


def carry_over(apps, schema_editor):
    """Mail addresses of rules become contacts and call plans; mails that were sent become messages."""
    from lumtar.domain.operation.secrets import seal

    Contact, Address = apps.get_model("calling", "Contact"), apps.get_model("calling", "Address")
    CallPlan, PlanStep = apps.get_model("calling", "CallPlan"), apps.get_model("calling", "PlanStep")
    Rule, Notification = apps.get_model("alarms", "Rule"), apps.get_model("alarms", "Notification")
    Message = apps.get_model("alarms", "Message")
    addresses = {}

    def address_of(mail):
        if mail not in addresses:
            contact, _ = Contact.objects.get_or_create(name=mail[:80])
            sealed = seal(json.dumps({"address": mail}))
            addresses[mail] = Address.objects.create(contact=contact, channel="mail", shown=mail, sealed=sealed)
        return addresses[mail]

    for rule in Rule.objects.exclude(mail_to=[]).order_by("pk"):
        wanted = sorted(set(rule.mail_to))
        plan, made = CallPlan.objects.get_or_create(name=("Mail to " + ", ".join(wanted))[:80])
        if made:
            step = PlanStep.objects.create(plan=plan, place=0, channels=[])
            step.contacts.set([address_of(mail).contact for mail in wanted])
        rule.plan = plan
        rule.save(update_fields=["plan"])
    known = set(Contact.objects.values_list("name", flat=True))
    for told in Notification.objects.order_by("pk").iterator(2000):
        told.contact, told.channel, told.due_at = told.target[:80], "mail", told.at
        told.address = address_of(told.target) if told.target[:80] in known else None
        if told.state != "pending":
            # One that was being sent when everything was stopped may have gone out: it is not sent again.
            told.message = Message.objects.create(
                address=told.address,
                contact=told.contact,
                channel="mail",
                target=told.target,
                state="failed" if told.state == "sending" else told.state,
                created_at=told.at,
                next_at=told.at,
                sent_at=told.sent_at,
                attempts=1,
                answer=told.detail,
            )
        told.save()
    schema_editor.execute(
        "DELETE FROM procrastinate_jobs WHERE task_name = 'lumtar.domain.alarms.jobs.send_mail' AND status IN ('todo', 'failed')"
    )


class Migration(migrations.Migration):
    dependencies = [
        ("alarms", "0008_actions"),
        ("calling", "0001_initial"),
        ("procrastinate", "0001_initial"),
    ]

    operations = [
        migrations.AddField(
            "rule",
            "plan",
            models.ForeignKey(
                "calling.CallPlan",
                on_delete=django.db.models.deletion.PROTECT,
                null=True,
                blank=True,
                related_name="rules",
            ),
        ),
        migrations.CreateModel(
            name="Call",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("position", models.PositiveIntegerField(default=0)),
                ("next_at", models.DateTimeField(null=True)),
                (
                    "alarm",
                    models.OneToOneField(
                        on_delete=django.db.models.deletion.CASCADE, related_name="call", to="alarms.alarm"
                    ),
                ),
                (
                    "plan",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="calls", to="calling.callplan"
                    ),
                ),
                (
                    "change",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="+", to="alarms.alarmchange"
                    ),
                ),
            ],
            options={"indexes": [models.Index(fields=["next_at"], name="alarms_call_next_at_a2671f_idx")]},
        ),
        migrations.CreateModel(
            name="Message",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("contact", models.CharField(max_length=80)),
                ("channel", models.CharField(max_length=16)),
                ("target", models.CharField(max_length=300)),
                ("state", models.CharField(choices=STATES, default="pending", max_length=8)),
                ("created_at", models.DateTimeField()),
                ("next_at", models.DateTimeField()),
                ("sent_at", models.DateTimeField(null=True)),
                ("attempts", models.PositiveSmallIntegerField(default=0)),
                ("answer", models.CharField(blank=True, max_length=2000)),
                (
                    "address",
                    models.ForeignKey(
                        null=True,
                        on_delete=django.db.models.deletion.SET_NULL,
                        related_name="messages",
                        to="calling.address",
                    ),
                ),
            ],
            options={
                "indexes": [
                    models.Index(
                        condition=models.Q(state__in=["pending", "sending"]),
                        fields=["next_at"],
                        name="messages_to_send",
                    ),
                    models.Index(fields=["address", "-created_at"], name="alarms_mess_address_113ad5_idx"),
                ]
            },
        ),
        migrations.RemoveConstraint("notification", "one_mail_a_change_and_address"),
        migrations.RenameField("notification", "address", "target"),
        migrations.AlterField("notification", "target", models.CharField(max_length=300)),
        migrations.AddField(
            "notification",
            "address",
            models.ForeignKey(
                null=True,
                on_delete=django.db.models.deletion.SET_NULL,
                related_name="notifications",
                to="calling.address",
            ),
        ),
        migrations.AddField("notification", "contact", models.CharField(max_length=80, default="")),
        migrations.AddField("notification", "channel", models.CharField(max_length=16, default="mail")),
        migrations.AddField("notification", "step", models.PositiveSmallIntegerField(default=0)),
        migrations.AddField("notification", "round", models.PositiveSmallIntegerField(default=0)),
        migrations.AddField("notification", "due_at", models.DateTimeField(null=True)),
        migrations.AddField(
            "notification",
            "message",
            models.ForeignKey(
                null=True,
                on_delete=django.db.models.deletion.SET_NULL,
                related_name="notifications",
                to="alarms.message",
            ),
        ),
        migrations.RunPython(carry_over),
    ]
