"""The grammar of queries, for Lark's LALR parser: which words may stand where.

A word is a keyword only where one may stand, so `in = 3` asks for a parameter named in.
"""

from __future__ import annotations

from kinetrum.core.points.aggregates import AGGREGATES

GRAMMAR = r"""
?start: either
?either: both (OR both)*              -> either
?both: one (AND one)*                 -> both
?one: NOT one                         -> negated
    | "(" either ")"
    | test

test: subject COMPARISON value        -> compare
    | subject IN WORD RANGE WORD      -> between
    | subject IN "{" value ("," value)* "}" -> one_of
    | subject LIKE WORD               -> like
    | subject LIKE QUOTED             -> like
    | subject IS NAN                  -> is_nan
    | subject WITHIN WORD             -> within
    | HAS subject                     -> has
    | USED reference                  -> used

subject: name                         -> plain
    | SCOPE name                      -> scoped
    | AGGREGATE "(" name ")"          -> aggregated
    | AGGREGATE "(" SCOPE name ")"    -> aggregated

?name: WORD | QUOTED
reference: WORD | QUOTED
?value: WORD | QUOTED | list
list: "[" [value ("," value)*] "]"    -> list

COMPARISON: /<=|>=|!=|=|<|>/
RANGE: ".."
AND.2: /and(?![^\s()])/i
OR.2: /or(?![^\s()])/i
NOT.2: /not(?![^\s(])/i
IN.2: /in(?![^\s{])/i
IS.2: /is(?!\S)/i
NAN.2: /nan(?![^\s)])/i
LIKE.2: /like(?![^\s"'])/i
WITHIN.2: /within(?!\S)/i
HAS.2: /has(?=\s+[^\s=!<>])/i
USED.2: /used(?=\s+[^\s=!<>])/i
AGGREGATE.2: /(@AGGREGATES@)(?=\()/
SCOPE.2: /(metric|param|label|run|plot):(?=\S)/
QUOTED: /"(?:[^"]|"")*"|'(?:[^']|'')*'/
WORD: /(?:[^\s()\[\]{},=!<>"'.]|\.(?!\.))+/

%ignore /\s+/
""".replace("@AGGREGATES@", "|".join(AGGREGATES))

# What a part of the grammar is called where it is missing.
SAID = {
    "WORD": "a name or value",
    "QUOTED": "a quoted text",
    "COMPARISON": "= != < <= > >=",
    "IN": "in",
    "LIKE": "like",
    "IS": "is nan",
    "NAN": "nan",
    "WITHIN": "within",
    "AND": "“and”",
    "OR": "“or”",
    "NOT": "not",
    "HAS": "has",
    "USED": "used",
    "LPAR": "(",
    "RPAR": ")",
    "LBRACE": "{",
    "RBRACE": "}",
    "COMMA": ",",
    "LSQB": "a list [",
    "RSQB": "]",
    "RANGE": "..",
    "$END": "the end",
}
