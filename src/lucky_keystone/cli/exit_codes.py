"""What the program's exit codes mean, and what the environment may say to it: for --help and the manual page."""

EXIT_CODES: dict[int, str] = {
    0: "done",
    1: "check found something wrong",
    2: "the command line is not right",
    3: "refused, to protect data",
    4: "the source cannot be used",
    5: "the drive failed",
    70: "an internal error",
    74: "the output cannot be written",
    130: "interrupted",
    141: "the output was closed",
}

ENVIRONMENT: dict[str, str] = {
    "LUCKY_KEYSTONE_BAY": "A folder of simulated drives, as --bay.",
    "LUCKY_KEYSTONE_LOG": "The file of the shop's record; 'off' for none.",
    "LUCKY_KEYSTONE_JOURNALS": "The folder of undo files.",
    "LUCKY_KEYSTONE_STORE": "The folder of downloaded images.",
    "LUCKY_KEYSTONE_CONFIG": "The file of the shop's presets, as --config.",
    "LUCKY_KEYSTONE_PRESET": "The preset that is used where --preset is not given.",
    "LUCKY_KEYSTONE_PLAIN": "1: one fact a line, as --plain.",
    "LUCKY_KEYSTONE_TRACE": "1: show where an internal error happened.",
    "HTTPS_PROXY": "The proxy for https links; also HTTP_PROXY and NO_PROXY.",
    "NO_COLOR": "Anything: no colours.",
    "CLICOLOR_FORCE": "1: colours even where output is not a terminal.",
    "TERM": "dumb: no colours, and progress as lines.",
}
FILES: dict[str, str] = {
    "~/.local/share/lucky-keystone/log.sqlite": "The record of what was done to which drive, with serial numbers.",
    "~/.local/share/lucky-keystone/journals/": "Undo files of repairs, and what marks of 'gauge' overwrote.",
    "~/.local/share/lucky-keystone/images/": "Downloaded images.",
    "~/.config/lucky-keystone/presets.toml": "The shop's presets.",
}
"""By their places on Linux; 'lucky-keystone data' shows them on any system."""
