"""The commands there are, finding the one that is asked for, and loading its module only."""

from __future__ import annotations

from importlib import import_module

from .options import VALUED

# name -> what it is for; the order is that of an administrator's day.
COMMANDS = {
    "init": "begin a workspace",
    "demo": "play the demo: every command, for real, against simulated tenants",
    "sandbox": "start, stop and disturb the simulated tenants",
    "tenant": "add, list and inspect tenants, and identify what they know",
    "config": "check sigillum.yaml, and print its schema for editors",
    "dialect": "describe a tenant's own interface: begin, check and prove a description",
    "charter": "write, check, show, rename and split charters",
    "advise": "say which kind of identity and credential an integration wants, and why",
    "rehearse": "say what enacting would do, in order, and what would go wrong",
    "enact": "rehearse, ask, carry out, read back and prove",
    "prove": "sign in as the identity and try what must work and what must not",
    "requests": "list, answer and confirm what somebody else has the power for",
    "handover": "give the consumer the values it asks for, masked, revealed or sealed",
    "lend": "lend a role for a while, with a reason; it ends by itself",
    "recall": "end a loan before its end",
    "loans": "list what is lent, and until when",
    "with": "run a program as an identity, with a token in no argument and on no disk",
    "rotate": "bring in the next generation of a credential, without an outage",
    "suspend": "switch an identity or a key off for a while, and show that it is refused",
    "reinstate": "switch on again what was suspended, if nobody else stopped it too",
    "retire": "end all that charters made, show that it is refused, and list what is left",
    "sweep": "do what is due and needs nobody: clear, reinstate, renew",
    "due": "what ends, is to be renewed or looked at again, in order of time",
    "explain": "say why something is allowed or refused, now or at any time",
    "token": "read, fetch, mint, swap and end tokens; none is ever printed",
    "trust": "hold a token against a charter's trusts, and write the profile of a workload",
    "delegations": "list who may act for people in a tenant, how wide, and since when unused; end one",
    "key": "make, read, check, take, convert and mend keys, and find those that lie about",
    "ledger": "show and verify what was done, and where the ledger stands",
    "completion": "print shell completion for bash, zsh or fish",
}


def command_of(arguments: list[str]) -> str | None:
    """The command among the arguments: the first that is no option and no option's value."""
    skip = False
    for argument in arguments:
        if skip:
            skip = False
        elif argument in VALUED:
            skip = True
        elif not argument.startswith("-"):
            return argument
    return None


def load(name: str) -> object:
    """The module of a command."""
    return import_module(f"sigillum.cli.commands.{name}")
