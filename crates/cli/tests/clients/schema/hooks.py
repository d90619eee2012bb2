"""Leads generated requests to the demo's models, so that more of them are answered, and never to another machine."""

import schemathesis

MODELS = {"/v1/embeddings": "larkfen-find", "/v1/rerank": "larkfen-find"}


@schemathesis.hook
def map_body(context, body):
    if isinstance(body, dict):
        if isinstance(body.get("model"), str):
            body["model"] = MODELS.get(context.operation.path, "larkfen-desk")
        if isinstance(body.get("address"), str):
            body["address"] = "http://127.0.0.1:9"
        for limit in ("max_tokens", "max_output_tokens", "max_completion_tokens"):
            if isinstance(body.get(limit), int):
                body[limit] = min(body[limit], 8)
    return body


@schemathesis.hook
def map_path_parameters(context, path_parameters):
    # The model must stay for the other operations.
    stays = context.operation.method == "get"
    if stays and path_parameters and "variant" in path_parameters:
        path_parameters.update(model="larkfen-desk", variant="q8_0")
    return path_parameters


@schemathesis.hook
def map_query(context, query):
    if query and isinstance(query.get("model"), str):
        query["model"] = "larkfen-desk"
    return query
