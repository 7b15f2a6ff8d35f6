"""Calls of the API and what they answer."""

import asyncio


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
        return b"".join([part async for part in answer.streaming_content])

    return asyncio.run(whole()).decode()
