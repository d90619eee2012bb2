#!/usr/bin/env python3
"""Makes the fixtures of this folder: tiny models with what the other fixtures do not cover.

Plain Python in double precision, by the papers, without any of the project's code:
  yarn    llama family, rotary scaling by Peng et al. 2023, "YaRN"
  longer  phi3 family, long and short rotary factors by Ding et al. 2024, "LongRoPE";
          logits once for a context within the first training and once beyond it
  last    qwen3 family with `pooling_type` 3: embeddings by the last token
  rank    bert family with `pooling_type` 4: a cross-encoder, which scores pairs of a query and a document

Run it again and the same bytes come out: `python3 golden/own/make.py`.
"""
import json, math, pathlib, random, struct

HERE = pathlib.Path(__file__).resolve().parent
VOCABULARY, WIDTH, HEADS, KV_HEADS, HEAD, INNER, LAYERS = 48, 32, 4, 2, 8, 48, 2
EPSILON = 1e-5
CONTEXT, ORIGINAL, BASE = 256, 32, 10000.0
PROMPT = [(7 * i * i + 3 * i + 5) % VOCABULARY for i in range(60)]


def f32(value):
    return struct.unpack("<f", struct.pack("<f", value))[0]


# -- writing ------------------------------------------------------------------------------------

def text(value):
    raw = value.encode()
    return struct.pack("<Q", len(raw)) + raw


def value(kind, item):
    if kind == "text":
        return struct.pack("<I", 8) + text(item)
    if kind == "texts":
        return struct.pack("<IIQ", 9, 8, len(item)) + b"".join(text(one) for one in item)
    if kind == "floats":
        return struct.pack("<IIQ", 9, 6, len(item)) + struct.pack(f"<{len(item)}f", *item)
    if kind == "integers":
        return struct.pack("<IIQ", 9, 5, len(item)) + struct.pack(f"<{len(item)}i", *item)
    code, form = {"u32": (4, "I"), "f32": (6, "f"), "bool": (7, "?")}[kind]
    return struct.pack(f"<I{form}", code, item)


def write(name, keys, tensors):
    head = b"GGUF" + struct.pack("<IQQ", 3, len(tensors), len(keys))
    for key, (kind, item) in keys.items():
        head += text(key) + value(kind, item)
    offset, data = 0, b""
    for tensor, (shape, values) in tensors.items():
        head += text(tensor) + struct.pack("<I", len(shape))
        head += struct.pack(f"<{len(shape)}Q", *shape) + struct.pack("<IQ", 0, offset)
        raw = struct.pack(f"<{len(values)}f", *values)
        raw += bytes(-len(raw) % 32)
        data += raw
        offset += len(raw)
    head += bytes(-len(head) % 32)
    (HERE / f"{name}.gguf").write_bytes(head + data)


def tokenizer():
    tokens = ["<unk>", "<s>", "</s>"] + [chr(ord("a") + i % 26) * (1 + i // 26) for i in range(VOCABULARY - 3)]
    return {
        "tokenizer.ggml.model": ("text", "llama"),
        "tokenizer.ggml.tokens": ("texts", tokens),
        "tokenizer.ggml.scores": ("floats", [0.0, 0.0, 0.0] + [-float(i) for i in range(VOCABULARY - 3)]),
        "tokenizer.ggml.token_type": ("integers", [2, 3, 3] + [1] * (VOCABULARY - 3)),
        "tokenizer.ggml.bos_token_id": ("u32", 1),
        "tokenizer.ggml.eos_token_id": ("u32", 2),
    }


def keys(family, more):
    sizes = {
        "block_count": LAYERS, "context_length": CONTEXT, "embedding_length": WIDTH,
        "feed_forward_length": INNER, "attention.head_count": HEADS, "attention.head_count_kv": KV_HEADS,
    }
    found = {"general.architecture": ("text", family), "general.name": ("text", f"own {family}")}
    found |= {f"{family}.{key}": ("u32", size) for key, size in sizes.items()}
    found[f"{family}.attention.layer_norm_rms_epsilon"] = ("f32", EPSILON)
    found[f"{family}.rope.freq_base"] = ("f32", BASE)
    return found | {f"{family}.{key}": item for key, item in more.items()} | tokenizer()


# -- computing ----------------------------------------------------------------------------------

class Numbers:
    def __init__(self, seed):
        self.random = random.Random(seed)
        self.tensors = {}

    def matrix(self, name, columns, rows, spread=None):
        spread = spread or 1.6 / math.sqrt(columns)
        values = [f32(self.random.gauss(0, spread)) for _ in range(columns * rows)]
        self.tensors[name] = ([columns, rows], values)
        return [values[row * columns:(row + 1) * columns] for row in range(rows)]

    def vector(self, name, length, middle=1.0, spread=0.1):
        values = [f32(self.random.gauss(middle, spread)) for _ in range(length)]
        self.tensors[name] = ([length], values)
        return values


def times(matrix, x):
    return [sum(w * v for w, v in zip(row, x)) for row in matrix]


def norm(x, weight):
    scale = 1 / math.sqrt(sum(v * v for v in x) / len(x) + EPSILON)
    return [v * scale * w for v, w in zip(x, weight)]


def turn(head, position, frequencies, magnitude, halves):
    half = len(frequencies)
    out = list(head)
    for pair, frequency in enumerate(frequencies):
        a, b = (pair, pair + half) if halves else (2 * pair, 2 * pair + 1)
        sin, cos = magnitude * math.sin(position * frequency), magnitude * math.cos(position * frequency)
        out[a], out[b] = head[a] * cos - head[b] * sin, head[a] * sin + head[b] * cos
    return out


def attention(queries, keys_, values, position):
    out = []
    for head in range(HEADS):
        group = head // (HEADS // KV_HEADS)
        scores = [sum(q * k for q, k in zip(queries[head], keys_[at][group])) / math.sqrt(HEAD)
                  for at in range(position + 1)]
        largest = max(scores)
        weights = [math.exp(score - largest) for score in scores]
        total = sum(weights)
        out += [sum(w * values[at][group][i] for at, w in enumerate(weights)) / total for i in range(HEAD)]
    return out


def heads_of(x):
    return [x[at:at + HEAD] for at in range(0, len(x), HEAD)]


def forward(model, prompt, frequencies, magnitude, halves):
    """Hidden states after the last norm."""
    states = [list(model["embedding"][token]) for token in prompt]
    for layer in model["layers"]:
        keys_, values = [], []
        for position, state in enumerate(states):
            x = norm(state, layer["attn_norm"])
            q, k, v = (heads_of(times(layer[part], x)) for part in "qkv")
            if "q_norm" in layer:
                q = [norm(head, layer["q_norm"]) for head in q]
                k = [norm(head, layer["k_norm"]) for head in k]
            keys_.append([turn(head, position, frequencies, magnitude, halves) for head in k])
            values.append(v)
            q = [turn(head, position, frequencies, magnitude, halves) for head in q]
            out = times(layer["output"], attention(q, keys_, values, position))
            states[position] = [a + b for a, b in zip(state, out)]
        for position, state in enumerate(states):
            x = norm(state, layer["ffn_norm"])
            gate, up = times(layer["gate"], x), times(layer["up"], x)
            inner = [g / (1 + math.exp(-g)) * u for g, u in zip(gate, up)]
            states[position] = [a + b for a, b in zip(state, times(layer["down"], inner))]
    return [norm(state, model["norm"]) for state in states]


def model(numbers, fused=False, head_norms=False):
    made = {"embedding": numbers.matrix("token_embd.weight", WIDTH, VOCABULARY, 1.0), "layers": []}
    for at in range(LAYERS):
        part = lambda name: f"blk.{at}.{name}.weight"
        layer = {"attn_norm": numbers.vector(part("attn_norm"), WIDTH)}
        queries, others = HEADS * HEAD, KV_HEADS * HEAD
        if fused:
            rows = numbers.matrix(part("attn_qkv"), WIDTH, queries + 2 * others)
            layer["q"], layer["k"], layer["v"] = rows[:queries], rows[queries:queries + others], rows[queries + others:]
        else:
            layer["q"] = numbers.matrix(part("attn_q"), WIDTH, queries)
            layer["k"] = numbers.matrix(part("attn_k"), WIDTH, others)
            layer["v"] = numbers.matrix(part("attn_v"), WIDTH, others)
        if head_norms:
            layer["q_norm"] = numbers.vector(part("attn_q_norm"), HEAD)
            layer["k_norm"] = numbers.vector(part("attn_k_norm"), HEAD)
        layer["output"] = numbers.matrix(part("attn_output"), queries, WIDTH)
        layer["ffn_norm"] = numbers.vector(part("ffn_norm"), WIDTH)
        if fused:
            rows = numbers.matrix(part("ffn_up"), WIDTH, 2 * INNER)
            layer["gate"], layer["up"] = rows[:INNER], rows[INNER:]
        else:
            layer["gate"] = numbers.matrix(part("ffn_gate"), WIDTH, INNER)
            layer["up"] = numbers.matrix(part("ffn_up"), WIDTH, INNER)
        layer["down"] = numbers.matrix(part("ffn_down"), INNER, WIDTH)
        made["layers"].append(layer)
    made["norm"] = numbers.vector("output_norm.weight", WIDTH)
    return made


def logits(made, prompt, *how):
    states = forward(made, prompt, *how)
    return {str(at): times(made["embedding"], states[at]) for at in (0, 6, len(prompt) - 1)}


def plain():
    return [BASE ** (-2 * pair / HEAD) for pair in range(HEAD // 2)]


def yarn_frequencies(factor):
    def dimension(turns):
        return HEAD * math.log(ORIGINAL / (turns * 2 * math.pi)) / (2 * math.log(BASE))
    low, high = max(math.floor(dimension(32)), 0), min(math.ceil(dimension(1)), HEAD - 1)
    high = max(high, low + 0.001)
    found = []
    for pair, frequency in enumerate(plain()):
        stretched = min(max((pair - low) / (high - low), 0), 1)
        found.append(frequency / factor * stretched + frequency * (1 - stretched))
    return found


def save(name, facts):
    (HERE / f"{name}.json").write_text(json.dumps(facts) + "\n")


def yarn():
    numbers = Numbers(11)
    made, factor = model(numbers), 8.0
    write("yarn", keys("llama", {
        "rope.scaling.type": ("text", "yarn"), "rope.scaling.factor": ("f32", factor),
        "rope.scaling.original_context_length": ("u32", ORIGINAL),
    }), numbers.tensors)
    magnitude = 1 + 0.1 * math.log(factor)
    save("yarn", {"ids": PROMPT, "logits": {"256": logits(made, PROMPT, yarn_frequencies(factor), magnitude, False)}})


def longer():
    numbers = Numbers(12)
    made = model(numbers, fused=True)
    pairs = HEAD // 2
    long, short = [f32(1 + 2.5 * at) for at in range(pairs)], [f32(1 + 0.25 * at) for at in range(pairs)]
    numbers.tensors["rope_factors_long.weight"] = ([pairs], long)
    numbers.tensors["rope_factors_short.weight"] = ([pairs], short)
    write("longer", keys("phi3", {
        "rope.scaling.type": ("text", "longrope"),
        "rope.scaling.original_context_length": ("u32", ORIGINAL),
    }), numbers.tensors)
    magnitude = math.sqrt(1 + math.log(CONTEXT / ORIGINAL) / math.log(ORIGINAL))
    divided = lambda factors: [frequency / factor for frequency, factor in zip(plain(), factors)]
    save("longer", {"ids": PROMPT, "logits": {
        "256": logits(made, PROMPT, divided(long), magnitude, True),
        "32": logits(made, PROMPT[:32], divided(short), magnitude, True),
    }})


def last():
    numbers = Numbers(13)
    made = model(numbers, head_norms=True)
    write("last", keys("qwen3", {"pooling_type": ("u32", 3)}), numbers.tensors)
    states = forward(made, PROMPT, plain(), 1.0, True)
    length = math.sqrt(sum(v * v for v in states[-1]))
    save("last", {"ids": PROMPT, "embedding": [v / length for v in states[-1]]})


WORDS = ("how deep do i sow beans when is chard sown moonhook bean three cm water the well in march "
         "ember larkfen seed library a good late frost").split()
QUERY = "How deep do I sow beans?"
DOCUMENTS = ["Ember chard is sown in March.", "Moonhook bean: three cm deep.", "Water the seed well.", "Frost"]


def words_of(text):
    """WordPiece, for texts of known words and signs."""
    for sign in "?.:":
        text = text.replace(sign, f" {sign} ")
    return text.lower().split()


def rank():
    numbers = Numbers(14)
    tokens = ["[PAD]", "[UNK]", "[CLS]", "[SEP]", "?", ".", ":"] + sorted(set(WORDS))
    ids = {token: at for at, token in enumerate(tokens)}
    pair = lambda name: (numbers.vector(name + ".weight", WIDTH), numbers.vector(name + ".bias", WIDTH, 0.0))

    def linear(name, columns, rows):
        return numbers.matrix(name + ".weight", columns, rows), numbers.vector(name + ".bias", rows, 0.0)

    embedding = numbers.matrix("token_embd.weight", WIDTH, len(tokens), 1.0)
    positions = numbers.matrix("position_embd.weight", WIDTH, 64, 0.3)
    types = numbers.matrix("token_types.weight", WIDTH, 2, 0.5)
    first = pair("token_embd_norm")
    layers = []
    for at in range(LAYERS):
        name = lambda part: f"blk.{at}.{part}"
        layer = {part: linear(name(part), WIDTH, WIDTH) for part in ("attn_q", "attn_k", "attn_v", "attn_output")}
        layer |= {"ffn_up": linear(name("ffn_up"), WIDTH, INNER), "ffn_down": linear(name("ffn_down"), INNER, WIDTH)}
        layer |= {part: pair(name(part)) for part in ("attn_output_norm", "layer_output_norm")}
        layers.append(layer)
    pooler, output = linear("cls", WIDTH, WIDTH), linear("cls.output", WIDTH, 1)

    def of(part, x):
        return [value + bias for value, bias in zip(times(part[0], x), part[1])]

    def centred(part, x):
        mean = sum(x) / len(x)
        scale = 1 / math.sqrt(sum((v - mean) ** 2 for v in x) / len(x) + EPSILON)
        return [(v - mean) * scale * w + b for v, w, b in zip(x, *part)]

    def score(query, document):
        states = []
        for kind, inputs in enumerate((["[CLS]", *query, "[SEP]"], [*document, "[SEP]"])):
            for token in inputs:
                rows = embedding[ids[token]], positions[len(states)], types[kind]
                states.append(centred(first, [sum(values) for values in zip(*rows)]))
        for layer in layers:
            queries, keys_, values = ([heads_of(of(layer[part], state)) for state in states]
                                      for part in ("attn_q", "attn_k", "attn_v"))
            for at, state in enumerate(states):
                heads = []
                for head in range(HEADS):
                    scores = [math.exp(sum(a * b for a, b in zip(queries[at][head], key[head])) / math.sqrt(HEAD))
                              for key in keys_]
                    heads += [sum(w * value[head][i] for w, value in zip(scores, values)) / sum(scores)
                              for i in range(HEAD)]
                x = centred(layer["attn_output_norm"], [a + b for a, b in zip(state, of(layer["attn_output"], heads))])
                inner = [v * (1 + math.erf(v / math.sqrt(2))) / 2 for v in of(layer["ffn_up"], x)]
                states[at] = centred(layer["layer_output_norm"], [a + b for a, b in zip(x, of(layer["ffn_down"], inner))])
        [found] = of(output, [math.tanh(value) for value in of(pooler, states[0])])
        return found

    family = "bert"
    sizes = {"block_count": LAYERS, "context_length": 64, "embedding_length": WIDTH, "feed_forward_length": INNER,
             "attention.head_count": HEADS, "pooling_type": 4}
    found = {"general.architecture": ("text", family), "general.name": ("text", "own rank")}
    found |= {f"{family}.{key}": ("u32", size) for key, size in sizes.items()}
    found |= {
        f"{family}.attention.layer_norm_epsilon": ("f32", EPSILON), f"{family}.attention.causal": ("bool", False),
        "tokenizer.ggml.model": ("text", "bert"),
        "tokenizer.ggml.tokens": ("texts", tokens[:4] + ["\u2581" + token for token in tokens[4:]]),
        "tokenizer.ggml.token_type": ("integers", [3, 2, 3, 3] + [1] * (len(tokens) - 4)),
        "tokenizer.ggml.token_type_count": ("u32", 2), "tokenizer.ggml.unknown_token_id": ("u32", 1),
        "tokenizer.ggml.bos_token_id": ("u32", 2), "tokenizer.ggml.eos_token_id": ("u32", 3),
    }
    write("rank", found, numbers.tensors)
    save("rank", {"query": QUERY, "documents": DOCUMENTS, "tokens": [
        [ids[token] for token in ["[CLS]", *words_of(QUERY), "[SEP]", *words_of(text), "[SEP]"]] for text in DOCUMENTS
    ], "scores": [score(words_of(QUERY), words_of(text)) for text in DOCUMENTS]})


yarn()
longer()
last()
rank()
