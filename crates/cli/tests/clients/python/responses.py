"""Uses the responses protocol with the public client, unchanged."""

import json
import sys
from typing import Literal

import openai
from openai import OpenAI
from pydantic import BaseModel

MODEL = "larkfen-desk"
ANSWER = "Sow Moonhook bean 3 cm deep."
QUESTION = "How deep do I sow Moonhook bean?"
STOCK = "How many packets of Moonhook bean are left?"
TOOLS = [
    {
        "type": "function",
        "name": "stock_level",
        "description": "How many packets are left.",
        "parameters": {
            "type": "object",
            "properties": {"variety": {"type": "string"}},
            "required": ["variety"],
            "additionalProperties": False,
        },
        "strict": True,
    }
]


class Sowing(BaseModel):
    month: Literal["March", "May"]
    depth: Literal[1, 2, 3]


client = OpenAI(base_url=sys.argv[1] + "/v1", api_key="none", max_retries=0)
responses = client.responses


def answers_and_streams():
    answer = responses.create(model=MODEL, input=QUESTION, temperature=0)
    assert answer.output_text == ANSWER and answer.status == "completed", answer
    assert answer.usage.total_tokens == answer.usage.input_tokens + answer.usage.output_tokens
    short = responses.create(model=MODEL, input=QUESTION, temperature=0, max_output_tokens=3)
    assert (short.status, short.incomplete_details.reason) == ("incomplete", "max_output_tokens"), short
    scored = responses.create(model=MODEL, input=QUESTION, include=["message.output_text.logprobs"], top_logprobs=2)
    assert len(scored.output[0].content[0].logprobs[0].top_logprobs) == 2, scored
    with responses.stream(model=MODEL, input=QUESTION, temperature=0) as stream:
        events = list(stream)
        assert stream.get_final_response().output_text == ANSWER
    kinds = [event.type for event in events]
    assert kinds[0] == "response.created" and kinds[-1] == "response.completed", kinds
    assert [event.sequence_number for event in events] == list(range(len(events))), kinds
    pieces = [event.delta for event in events if event.type == "response.output_text.delta"]
    assert len(pieces) > 3 and "".join(pieces) == ANSWER, pieces


def tools():
    first = responses.create(model=MODEL, input=STOCK, tools=TOOLS, temperature=0)
    (call,) = [item for item in first.output if item.type == "function_call"]
    assert json.loads(call.arguments) == {"variety": "Moonhook bean"}, call
    result = json.dumps({"variety": "Moonhook bean", "packets": 12})
    output = {"type": "function_call_output", "call_id": call.call_id, "output": result}
    items = [{"role": "user", "content": STOCK}, *first.output, output]
    second = responses.create(model=MODEL, input=items, tools=TOOLS, temperature=0)
    assert "12" in second.output_text, second
    with responses.stream(model=MODEL, input=STOCK, tools=TOOLS, temperature=0) as stream:
        done = [event for event in stream if event.type == "response.function_call_arguments.done"]
    assert json.loads(done[0].arguments) == {"variety": "Moonhook bean"}, done


def structured_output():
    answer = responses.parse(model=MODEL, input=QUESTION, text_format=Sowing, temperature=0)
    assert answer.output_parsed.month in ("March", "May"), answer


def kept_conversations():
    first = responses.create(model=MODEL, input=STOCK, tools=TOOLS, temperature=0, store=True)
    output = {"type": "function_call_output", "call_id": first.output[-1].call_id, "output": '{"packets": 12}'}
    second = responses.create(
        model=MODEL, previous_response_id=first.id, input=[output], tools=TOOLS, temperature=0, store=True
    )
    assert "12" in second.output_text, second
    assert responses.retrieve(second.id).output_text == second.output_text
    assert [item.type for item in responses.input_items.list(second.id)] == ["function_call_output"]
    responses.delete(second.id)
    expect(openai.NotFoundError, "response_not_found", lambda: responses.retrieve(second.id))
    forgotten = responses.create(model=MODEL, input=QUESTION)
    expect(openai.NotFoundError, "response_not_found", lambda: responses.retrieve(forgotten.id))


def expect(kind, code, call):
    try:
        call()
    except kind as error:
        assert error.code == code, error
        return
    raise AssertionError(f"no {code}")


def errors():
    def create(**fields):
        return lambda: responses.create(**{"model": MODEL, "input": QUESTION, **fields})

    expect(openai.NotFoundError, "model_not_found", create(model="nettle"))
    expect(openai.BadRequestError, "field_unknown", create(conversation="conv_1"))
    expect(openai.BadRequestError, "tool_not_supported", create(tools=[{"type": "web_search"}]))
    expect(openai.BadRequestError, "context_length_exceeded", create(input="bean " * 5000))
    expect(openai.BadRequestError, "field_out_of_range", create(background=True))


for part in (answers_and_streams, tools, structured_output, kept_conversations, errors):
    part()
    print(part.__name__, "works")
