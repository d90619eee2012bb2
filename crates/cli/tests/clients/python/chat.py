"""Uses the service with the public client of the chat-completions protocol, unchanged."""

import json
import sys
from typing import Literal

import openai
from openai import OpenAI
from pydantic import BaseModel

MODEL = "larkfen-desk"
ANSWER = "Sow Moonhook bean 3 cm deep."
QUESTION = [{"role": "user", "content": "How deep do I sow Moonhook bean?"}]
STOCK = [{"role": "user", "content": "How many packets of Moonhook bean are left?"}]
TOOLS = [
    {
        "type": "function",
        "function": {
            "name": "stock_level",
            "description": "How many packets are left.",
            "parameters": {
                "type": "object",
                "properties": {"variety": {"type": "string"}},
                "required": ["variety"],
                "additionalProperties": False,
            },
            "strict": True,
        },
    }
]


class Sowing(BaseModel):
    month: Literal["March", "May"]
    depth: Literal[1, 2, 3]


client = OpenAI(base_url=sys.argv[1] + "/v1", api_key="none", max_retries=0)
chat = client.chat.completions


def answers_and_streams():
    answer = chat.create(model=MODEL, messages=QUESTION, temperature=0)
    assert answer.choices[0].message.content == ANSWER, answer
    assert answer.choices[0].finish_reason == "stop"
    assert answer.usage.total_tokens == answer.usage.prompt_tokens + answer.usage.completion_tokens
    assert answer._request_id, "the client reports the id of the request"
    options = {"include_usage": True}
    chunks = list(chat.create(model=MODEL, messages=QUESTION, temperature=0, stream=True, stream_options=options))
    pieces = [chunk.choices[0].delta.content or "" for chunk in chunks if chunk.choices]
    assert len(pieces) > 3 and "".join(pieces) == ANSWER, pieces
    assert chunks[-1].usage.completion_tokens == answer.usage.completion_tokens
    with chat.stream(model=MODEL, messages=QUESTION, temperature=0) as stream:
        kinds = {event.type for event in stream}
        assert {"content.delta", "content.done"} <= kinds, kinds
        assert stream.get_final_completion().choices[0].message.content == ANSWER
    scored = chat.create(model=MODEL, messages=QUESTION, temperature=0, logprobs=True, top_logprobs=2)
    tokens = scored.choices[0].logprobs.content
    assert "".join(token.token for token in tokens).strip().startswith(ANSWER), tokens
    assert all(len(token.top_logprobs) == 2 for token in tokens)
    several = chat.create(model=MODEL, messages=QUESTION, n=3, seed=1)
    assert [choice.index for choice in several.choices] == [0, 1, 2]


def tools():
    messages = list(STOCK)
    for turn in range(2):
        answer = chat.create(model=MODEL, messages=messages, tools=TOOLS, temperature=0).choices[0]
        messages.append(answer.message)
        if answer.finish_reason != "tool_calls":
            break
        (call,) = answer.message.tool_calls
        assert json.loads(call.function.arguments) == {"variety": "Moonhook bean"}
        result = json.dumps({"variety": "Moonhook bean", "packets": 12})
        messages.append({"role": "tool", "tool_call_id": call.id, "content": result})
    assert turn == 1 and "12" in answer.message.content, answer
    parsed = chat.parse(model=MODEL, messages=STOCK, tools=TOOLS, temperature=0)
    assert parsed.choices[0].message.tool_calls[0].function.parsed_arguments == {"variety": "Moonhook bean"}
    with chat.stream(model=MODEL, messages=STOCK, tools=TOOLS, temperature=0) as stream:
        kinds = {event.type for event in stream}
        assert "tool_calls.function.arguments.done" in kinds, kinds
        (call,) = stream.get_final_completion().choices[0].message.tool_calls
        assert call.function.parsed_arguments == {"variety": "Moonhook bean"}, call


def structured_output():
    parsed = chat.parse(model=MODEL, messages=QUESTION, response_format=Sowing, temperature=0)
    assert parsed.choices[0].message.parsed.month in ("March", "May"), parsed
    cut = None
    try:
        chat.parse(model=MODEL, messages=QUESTION, response_format=Sowing, max_tokens=3)
    except openai.LengthFinishReasonError as error:
        cut = error
    assert cut, "an answer that the limit ended reports that"


def other_routes():
    vectors = client.embeddings.create(model="larkfen-find", input=["bean", "chard"]).data
    assert [vector.index for vector in vectors] == [0, 1] and len(vectors[0].embedding) == 128
    text = client.completions.create(model=MODEL, prompt="Sow Moonhook bean", max_tokens=4).choices[0]
    assert text.finish_reason == "length" and text.text
    ids = [model.id for model in client.models.list()]
    assert "larkfen-desk/q8_0" in ids, ids
    assert client.models.retrieve("larkfen-desk/q8_0").id == "larkfen-desk/q8_0"


def expect(kind, code, call):
    try:
        call()
    except kind as error:
        assert error.code == code, error
        return
    raise AssertionError(f"no {code}")


def errors():
    expect(openai.NotFoundError, "model_not_found", lambda: client.models.retrieve("nettle"))
    expect(openai.BadRequestError, "field_unknown", lambda: chat.create(model=MODEL, messages=QUESTION, audio={}))
    long = [{"role": "user", "content": "bean " * 5000}]
    expect(openai.BadRequestError, "context_length_exceeded", lambda: chat.create(model=MODEL, messages=long))


for part in (answers_and_streams, tools, structured_output, other_routes, errors):
    part()
    print(part.__name__, "works")
