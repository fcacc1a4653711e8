"""The other end of the link: C from the sheet.

It may use what is declared, how it is cut and checked, and the plans of `answers`.
"""
