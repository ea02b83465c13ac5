"""The suggested fixes of all findings in one text, to be added at the end of a recipe."""

from __future__ import annotations

from collections.abc import Sequence

from evrin.check.evidence import Finding


def fix_tables(findings: Sequence[Finding]) -> str:
    """Return the tables that fix the open ones of some findings, each under a comment with its message.

    Where a finding has no table of its own, the one that accepts it follows as a comment.

    Parameters
    ----------
    findings : Sequence[Finding]
        Findings of a build.

    Returns
    -------
    str

    Examples
    --------
    >>> from evrin.check import fix_tables
    >>> fix_tables([])
    '# no finding is open'
    """
    parts = []
    for number, finding in enumerate(findings, 1):
        if not finding.is_open:
            continue
        head = [f"# {number}  {finding.code}: {finding.message}", *(f"#    {shot}" for shot in finding.shots[:4])]
        body = finding.snippet
        if not body:
            asked = f"#    {finding.fix}; to accept it, give the reason:"
            body = "\n".join([asked, *(f"# {row}" for row in finding.acceptance.splitlines())])
        parts.append("\n".join([*head, body]))
    return "\n\n".join(parts) if parts else "# no finding is open"
