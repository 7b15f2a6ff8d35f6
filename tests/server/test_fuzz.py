"""Every call of the API with junk that its own description allows and forbids: none answers 500.

Calls that send to addresses they are given are left out, since only loopback may be sent to.
"""

import os

import pytest
import schemathesis
from django.contrib.auth.models import User
from hypothesis import HealthCheck, settings

from lumtar.domain.accounts.services import new_token
from lumtar.server.api.root import api
from tests.network import fill

EXAMPLES = int(os.environ.get("LUMTAR_FUZZ_EXAMPLES", "6"))
SENDING = r"/devices/(try|list/add)$|/session"
described = schemathesis.openapi.from_dict(api.get_openapi_schema(path_prefix="/api/v1/")).exclude(path_regex=SENDING)


@pytest.fixture
def token(transactional_db):
    """Of somebody who may everything, in a network with something in it."""
    user = User.objects.create(username="anna", is_superuser=True)
    fill(0.2)
    return new_token(user)


@pytest.mark.django_db(transaction=True)
@described.parametrize()
@settings(max_examples=EXAMPLES, derandomize=True, deadline=None, suppress_health_check=list(HealthCheck))
def test_no_call_answers_500(case, address, token):
    answer = case.call(base_url=address, headers={"Authorization": f"Bearer {token}"})
    assert answer.status_code < 500, answer.text
