"""
The computation: frames and values in, frames and values out.

Nothing in here reads a file, a database, a clock or a random number. Money is
integer micro-units of the account's currency (1 unit = 1,000,000) until it is
divided; ratios are float64 and null where their denominator is 0.
"""
