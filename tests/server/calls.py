"""Calls of the API and what they answer."""


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
