"""Exact numbers as the program writes them."""

from fractions import Fraction


def rounded(value, decimals):
    """Half to even, with so many decimals."""
    units = value * 10**decimals
    whole = units.numerator // units.denominator
    rest = units - whole
    if rest > Fraction(1, 2) or (rest == Fraction(1, 2) and whole % 2 == 1):
        whole += 1
    text = str(abs(whole)).rjust(decimals + 1, "0")
    return ("-" if whole < 0 else "") + (text[:-decimals] + "." + text[-decimals:] if decimals else text)
