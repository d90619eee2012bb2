"""Drives the demo desk's tools for ten turns with a public agent library."""

import sys

from pydantic_ai import Agent
from pydantic_ai.messages import ModelResponse
from pydantic_ai.models.openai import OpenAIChatModel, OpenAIResponsesModel
from pydantic_ai.providers.openai import OpenAIProvider

STOCK = {"Moonhook bean": 12, "Ember chard": 34, "Quill carrot": 5}
provider = OpenAIProvider(base_url=sys.argv[1] + "/v1", api_key="none")
QUESTIONS = [
    ("How many packets of Moonhook bean are left?", "12"),
    ("Please reserve 3 packets of Moonhook bean.", "3"),
    ("How many packets of Ember chard are left?", "34"),
    ("Please reserve 2 packets of Ember chard.", "2"),
    ("How many packets of Moonhook bean are left?", "9"),
]


def loop(model):
    stock, calls = dict(STOCK), []
    agent = Agent(model, model_settings={"temperature": 0, "max_tokens": 60})

    @agent.tool_plain
    def stock_level(variety: str) -> dict:
        """How many packets of a variety are on the shelf now."""
        calls.append(("stock_level", variety))
        return {"variety": variety, "packets": stock[variety]}

    @agent.tool_plain
    def reserve_packets(variety: str, packets: int) -> dict:
        """Set packets aside for a visitor."""
        calls.append(("reserve_packets", variety, packets))
        stock[variety] -= packets
        return {"ok": True}

    history = []
    for question, expected in QUESTIONS:
        result = agent.run_sync(question, message_history=history)
        assert expected in result.output, (question, result.output, calls)
        history = result.all_messages()
    turns = [message for message in history if isinstance(message, ModelResponse)]
    assert len(turns) == 10 and len(calls) == 5, (len(turns), calls)


for kind in (OpenAIChatModel, OpenAIResponsesModel):
    loop(kind("larkfen-desk", provider=provider))
    print("ten turns work with", kind.__name__)
