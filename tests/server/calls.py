"""Calls of the API and what they answer."""

import asyncio

from asgiref.sync import sync_to_async
from django.db import connections


def get(client, path, **query):
    answer = client.get(f"/api/v1/{path}", query)
    assert answer.status_code == 200, answer.content
    return answer.json()


def is_problem(answer, status, words):
    assert answer.status_code == status, answer.content
    assert answer.headers["Content-Type"] == "application/problem+json"
    body = answer.json()
    assert body["status"] == status and words in body["detail"], body
    return True


def streamed(answer):
    """The text of an answer that comes line by line."""

    async def whole():
        try:
            return b"".join([part async for part in answer.streaming_content])
        finally:
            # What asks the database meanwhile is a thread of its own, which nobody else would let go of.
            await sync_to_async(connections.close_all)()

    return asyncio.run(whole()).decode()
