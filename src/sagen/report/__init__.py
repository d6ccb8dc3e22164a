"""The printed finding: one or two pages, HTML and PDF from one template."""
