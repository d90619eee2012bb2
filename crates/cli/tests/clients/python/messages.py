"""Uses the messages protocol with its public client, unchanged."""

import sys
from typing import Literal

import anthropic
from anthropic import Anthropic
from pydantic import BaseModel

MODEL = "larkfen-desk"
ANSWER = "Sow Moonhook bean 3 cm deep."
# The newest client has no parameter for the temperature.
QUESTION = {"model": MODEL, "max_tokens": 60, "extra_body": {"temperature": 0}}
QUESTION["messages"] = [{"role": "user", "content": "How deep do I sow Moonhook bean?"}]
STOCK = [{"role": "user", "content": "How many packets of Moonhook bean are left?"}]
TOOLS = [
    {
        "name": "stock_level",
        "description": "How many packets are left.",
        "input_schema": {"type": "object", "properties": {"variety": {"type": "string"}}, "required": ["variety"]},
    }
]


class Sowing(BaseModel):
    month: Literal["March", "May"]
    depth: Literal[1, 2, 3]


client = Anthropic(base_url=sys.argv[1], api_key="none", max_retries=0)
messages = client.messages


def answers_and_streams():
    answer = messages.create(**QUESTION)
    assert answer.content[0].text == ANSWER and answer.stop_reason == "end_turn", answer
    counted = messages.count_tokens(model=MODEL, messages=QUESTION["messages"]).input_tokens
    assert counted == answer.usage.input_tokens + answer.usage.cache_read_input_tokens, answer.usage
    with messages.stream(**QUESTION) as stream:
        pieces = list(stream.text_stream)
        final = stream.get_final_message()
    assert len(pieces) > 3 and "".join(pieces) == ANSWER, pieces
    assert final.usage.output_tokens == answer.usage.output_tokens, final
    short = messages.create(**{**QUESTION, "max_tokens": 3})
    assert short.stop_reason == "max_tokens", short
    stopped = messages.create(**QUESTION, stop_sequences=["bean"])
    assert (stopped.stop_reason, stopped.stop_sequence) == ("stop_sequence", "bean"), stopped
    system = [{"type": "text", "text": "Answer in capitals.", "cache_control": {"type": "ephemeral"}}]
    assert messages.create(**QUESTION, system=system).content[0].text.isupper()


def tools():
    asked = {**QUESTION, "messages": STOCK, "tools": TOOLS}
    first = messages.create(**asked)
    assert first.stop_reason == "tool_use", first
    (call,) = [block for block in first.content if block.type == "tool_use"]
    assert call.input == {"variety": "Moonhook bean"}, call
    result = {"type": "tool_result", "tool_use_id": call.id, "content": '{"packets": 12}'}
    turns = [{"role": "assistant", "content": first.content}, {"role": "user", "content": [result]}]
    second = messages.create(**{**asked, "messages": STOCK + turns})
    assert "12" in second.content[0].text, second
    with messages.stream(**asked) as stream:
        kinds = {event.type for event in stream}
        (call,) = [block for block in stream.get_final_message().content if block.type == "tool_use"]
    assert "input_json" in kinds and call.input == {"variety": "Moonhook bean"}, kinds
    forced = messages.create(**{**QUESTION, "tools": TOOLS, "tool_choice": {"type": "tool", "name": "stock_level"}})
    assert forced.content[-1].name == "stock_level", forced


def structured_output():
    parsed = messages.parse(**QUESTION, output_format=Sowing)
    assert parsed.parsed_output.month in ("March", "May"), parsed


def expect(kind, code, call):
    try:
        call()
    except kind as error:
        assert error.body["error"]["code"] == code, error
        return
    raise AssertionError(f"no {code}")


def errors():
    def create(**fields):
        return lambda: messages.create(**{**QUESTION, **fields})

    expect(anthropic.NotFoundError, "model_not_found", create(model="nettle"))
    expect(anthropic.BadRequestError, "field_unknown", create(extra_body={"audio": {}}))
    picture = {"type": "image", "source": {"type": "base64", "media_type": "image/png", "data": ""}}
    expect(anthropic.BadRequestError, "part_not_supported", create(messages=[{"role": "user", "content": [picture]}]))


for part in (answers_and_streams, tools, structured_output, errors):
    part()
    print(part.__name__, "works")
