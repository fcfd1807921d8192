"""The colours of everything that is drawn: figures, pages and workbooks have the same."""

INK = "#22303c"
QUIET = "#8793a0"
FAINT = "#dfe3e8"
WARM = "#b5482a"
PAPER = "#fcfbf8"
#: Bands of the fan from the widest to the narrowest: lightness carries the order, so that it survives grey print.
FAN = ("#f6dccb", "#ecb798", "#dd8d68")
#: Colours of terms, in the model's order; neighbours differ in lightness. Hatches separate repeats.
TERMS = ("#2e6f8e", "#e2b04a", "#6b4c8a", "#8fb56b", "#c9798f", "#3c4f76", "#b08d6e", "#56b3a6")
