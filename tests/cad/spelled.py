"""STEP and IGES files spelled anew, in the ways that their standards allow (ISO 10303-21 clause 6; IGES 5.3, 2.2)."""

import re

import numpy as np

TOKEN = re.compile(
    r"(?P<blank>\s+|/\*.*?\*/)|(?P<text>'(?:[^']|'')*')|(?P<real>[-+]?\d+\.\d*(?:E[-+]?\d+)?)|(?P<integer>[-+]?\d+)"
    r"|(?P<instance>#\d+)|(?P<word>\.?!?[A-Za-z_][\w-]*\.?)|(?P<mark>[(),=;$*])",
    re.S,
)
NAMES = (
    "'(NAN)'", "'(INF,1.E308)'", "'it''s (1.E999, #5) /* no comment '", "'lower UPPER'", "'\\X2\\00E400DF\\X0\\ and \\S\\d'",
    "'CARTESIAN_POINT(1.E99)'", "'a;b'", "' '",
)  # fmt: skip
SCHEMAS = ("AUTOMOTIVE_DESIGN", "CONFIG_CONTROL_DESIGN", "AP242_MANAGED_MODEL_BASED_3D_ENGINEERING_MIM_LF",
           "AUTOMOTIVE_DESIGN { 1 0 10303 214 1 1 1 1 }")  # fmt: skip
COMMENTS = ("/* (INF */", "/* NAN, */", "/**/", "/* #1 = CARTESIAN_POINT('',(1.E99, */", "/* it's */")


def real(text: str, random: np.random.Generator) -> str:
    """The same value: with and without exponent, sign and leading zeros of it."""
    value, how = float(text), int(random.integers(6))
    if how == 0 or not np.isfinite(value):
        return text
    mantissa, exponent = f"{value:.17E}".split("E")
    mantissa = mantissa.rstrip("0")
    power = int(exponent)
    sign = "-" if power < 0 else random.choice(["+", ""])
    digits = f"{abs(power):0{int(random.integers(1, 4))}d}"
    spelled = f"{mantissa}E{sign}{digits}"
    if how == 1 and abs(power) < 12:
        plain = repr(value) if "e" not in repr(value) else f"{value:.25f}"
        spelled = plain if "." in plain else f"{plain}."
    if how == 2 and value > 0:
        spelled = f"+{spelled}"
    assert float(spelled) == value
    return spelled


def step(text: str, seed: int) -> bytes:
    """The same part: other numbers, blanks, breaks, comments, names, schema and order of entities."""
    random = np.random.default_rng(seed)
    breaks = str(random.choice(["\n", "\r\n", "", " "]))
    comments = random.random() < 0.5
    head, data = text.split("DATA;", 1)
    data, tail = data.split("ENDSEC;", 1)
    head = re.sub(r"FILE_SCHEMA\s*\(\(.*?\)\)", f"FILE_SCHEMA(('{random.choice(SCHEMAS)}'))", head, flags=re.S)
    entities, one = [], []
    for token in TOKEN.finditer(data):
        kind, word = token.lastgroup, token[0]
        if kind == "blank":
            continue
        if kind == "real":
            word = real(word, random)
        elif kind == "text" and len(one) > 2 and one[2] == "PRODUCT":
            word = str(random.choice(NAMES))
        one.append(word)
        if random.random() < 0.02:
            one.append(str(random.choice([" ", breaks or " ", "\t"])))
        if comments and random.random() < 0.01:
            one.append(str(random.choice(COMMENTS)))
        if word == ";":
            entities.append("".join(one))
            one = []
    random.shuffle(entities)
    return breaks.join([head.replace("\n", breaks or " ") + "DATA;", *entities, "ENDSEC;"]).encode() + tail.encode()


def iges(text: str, seed: int) -> bytes:
    """The same part: exponents with D or E, parameters filled to column 64 or one a line."""
    random = np.random.default_rng(seed)
    lines = text.splitlines()
    of = {letter: [line for line in lines if line[72:73] == letter] for letter in "SGDP"}
    whole: dict[int, str] = {}
    for line in of["P"]:
        whole[int(line[64:72])] = whole.get(int(line[64:72]), "") + line[:64]
    parameters: list[str] = []
    directory = [list(of["D"][k : k + 2]) for k in range(0, len(of["D"]), 2)]
    fill = random.random() < 0.7
    for k, (first, second) in enumerate(directory):
        number = 2 * k + 1
        data = whole[number].rstrip()
        words = re.findall(r"\d+H[^,;]*[,;]|[^,;]*[,;]", data)
        words = [_iges_number(word, random) for word in words]
        begun, line = len(parameters) + 1, ""
        for word in words:
            if line and (not fill or len(line) + len(word) > 64):
                parameters.append(f"{line:<64}{number:8d}P{len(parameters) + 1:7d}")
                line = ""
            line += word
        parameters.append(f"{line:<64}{number:8d}P{len(parameters) + 1:7d}")
        count = len(parameters) - begun + 1
        directory[k] = [f"{first[:8]}{begun:8d}{first[16:]}", f"{second[:24]}{count:8d}{second[32:]}"]
    pairs = [line for pair in directory for line in pair]
    counts = (len(of["S"]), len(of["G"]), len(pairs), len(parameters))
    end = "".join(f"{letter}{n:7d}" for letter, n in zip("SGDP", counts, strict=True))
    breaks = str(random.choice(["\n", "\r\n"]))
    return breaks.join([*of["S"], *of["G"], *pairs, *parameters, f"{end:<72}T      1", ""]).encode()


def _iges_number(word: str, random: np.random.Generator) -> str:
    body, mark = word[:-1], word[-1]
    if not re.fullmatch(r"\s*[-+]?\d*\.\d*(?:[DE][-+]?\d+)?\s*", body) or not re.search(r"\d", body):
        return word
    value = float(body.replace("D", "E"))
    mantissa, power = f"{value:.16E}".split("E")
    mantissa = mantissa.rstrip("0")
    return f"{mantissa}{random.choice(['D', 'E'])}{int(power):+0{int(random.integers(2, 4))}d}{mark}"
