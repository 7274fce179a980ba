"""The local page and the report: scenes in the round."""

ON_A_PAGE = 200
"""How many assets a page of a report has, before there are several and one that lists them."""
