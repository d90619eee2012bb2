"""Answers a batch with the public client, unchanged."""

import io
import json
import sys
import time

import openai
from openai import OpenAI

QUESTION = [{"role": "user", "content": "How deep do I sow Moonhook bean?"}]
client = OpenAI(base_url=sys.argv[1] + "/v1", api_key="none", max_retries=0)


def line(name):
    body = {"model": "larkfen-desk", "messages": QUESTION, "temperature": 0}
    return json.dumps({"custom_id": name, "method": "POST", "url": "/v1/chat/completions", "body": body})


def a_batch():
    calls = io.BytesIO("\n".join([line("first"), line("second")]).encode())
    file = client.files.create(file=("calls.jsonl", calls), purpose="batch")
    assert client.files.retrieve(file.id).filename == "calls.jsonl"
    batch = client.batches.create(
        input_file_id=file.id,
        endpoint="/v1/chat/completions",
        completion_window="24h",
        metadata={"garden": "north"},
    )
    for _ in range(300):
        batch = client.batches.retrieve(batch.id)
        if batch.status == "completed":
            break
        time.sleep(0.1)
    assert (batch.status, batch.request_counts.completed) == ("completed", 2), batch
    assert batch.metadata == {"garden": "north"} and batch.error_file_id is None, batch
    lines = client.files.content(batch.output_file_id).text.splitlines()
    bodies = {answer["custom_id"]: answer["response"]["body"] for answer in map(json.loads, lines)}
    assert bodies["second"]["choices"][0]["message"]["content"] == "Sow Moonhook bean 3 cm deep.", bodies
    assert [found.id for found in client.batches.list(limit=1)] == [batch.id]
    # The second page is asked for with the last id of the first.
    assert len(list(client.files.list(limit=1))) == 2
    assert client.files.delete(file.id).deleted
    try:
        client.files.retrieve(file.id)
    except openai.NotFoundError as error:
        assert error.code == "file_not_found", error
        return
    raise AssertionError("the file is still there")


a_batch()
print("a batch works")
