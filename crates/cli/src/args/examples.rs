//! The examples at the end of each command's help. The tests run those that need nothing but a plan.

/// What an example is for, and what to type after `bastium`. All of them are about the demo plan.
type Example = (&'static str, &'static str);

/// The examples of each command, by its name.
const EXAMPLES: &[(&str, &[Example])] = &[
    (
        "new",
        &[
            ("Write bastium.toml, a plan of two networks", "new \"Corner Shop\""),
            ("Begin with the clinic of the guide", "new --from clinic"),
        ],
    ),
    (
        "check",
        &[
            ("Find mistakes and risks in bastium.toml", "check"),
            (
                "In continuous integration: fail for warnings and errors only",
                "check --fail-on warning",
            ),
        ],
    ),
    (
        "add",
        &[
            ("Add a network", "add network kiosk zone=guests vlan=88 hosts=5"),
            ("Add a host to each row of a table", "add host --table hosts.csv --dry-run"),
        ],
    ),
    (
        "set",
        &[
            ("Change keys of an entry", "set network desks hosts=40"),
            ("Change a cell of the matrix", "set cell staff guests allow"),
        ],
    ),
    ("remove", &[("Remove a host", "remove host till")]),
    ("rename", &[("Rename a network, and every reference to it", "rename desks front-desks")]),
    (
        "change",
        &[
            ("Make the changes of a file, or none", "change move.txt"),
            ("Show what they would open and close", "change move.txt --dry-run"),
        ],
    ),
    ("explain", &[("Explain a finding of `check`", "explain vlan-one")]),
    (
        "addresses",
        &[
            ("Show the addressing sheet", "addresses"),
            ("Show what is free, too", "addresses --free"),
        ],
    ),
    ("ports", &[("Show what to set on each port", "ports")]),
    (
        "matrix",
        &[
            ("Show the matrix", "matrix"),
            ("Show everything that decides one cell", "matrix staff clinical"),
        ],
    ),
    (
        "report",
        &[
            ("Write the report for the client", "report --for client --to report.html"),
            (
                "Write everything, with what has changed since a commit",
                "report --since HEAD --to report.html",
            ),
        ],
    ),
    ("view", &[("Look at the plan, ask it, and change it", "view")]),
    ("watch", &[("See what each save of the plan changes", "watch")]),
    (
        "draw",
        &[
            ("Draw who may reach whom", "draw zones --to zones.svg"),
            ("Draw how devices are connected, for a document", "draw site --to site.png"),
            (
                "Draw the matrix for a black and white printer",
                "draw matrix --theme print --to matrix.svg",
            ),
        ],
    ),
    (
        "rules",
        &[
            ("Show all rules in order", "rules"),
            ("Show the rules between two endpoints", "rules desks printers"),
            ("Show the rules that mention a word", "rules --find printers"),
        ],
    ),
    (
        "worksheet",
        &[
            ("Show everything to type", "worksheet"),
            ("Show one step", "worksheet rules"),
            ("Show what has changed since the last commit", "worksheet --since HEAD"),
            ("Write a page to tick off", "worksheet --page worksheet.html"),
            ("Write all sheets as a workbook", "export xlsx --to clinic.xlsx"),
        ],
    ),
    ("prove", &[("Prove the rules in every form", "prove --all-forms")]),
    (
        "compare",
        &[
            ("Compare with the last commit", "compare"),
            ("Compare two plans", "compare old.toml new.toml"),
        ],
    ),
    (
        "ask",
        &[
            ("Can the desks print?", "ask desks printers ipp"),
            ("And on Tuesday evening?", "ask desks printers ipp --at \"tue 21:30\""),
        ],
    ),
    (
        "checklist",
        &[
            ("List all checks", "checklist"),
            ("List the best checks for half an hour", "checklist --within 30m"),
            ("Write a page to tick off", "checklist --page checklist.html"),
        ],
    ),
    ("walk", &[("Work through the checklist", "walk"), ("Show how far it is", "walk --status")]),
    ("listen", &[("Listen at the far end of a check", "listen tcp/631 udp/161 --for 1h")]),
    (
        "rehearse",
        &[
            ("Try the rules with real packets", "rehearse"),
            (
                "Run the checklist against the compiled rules, without packets",
                "rehearse --on-paper",
            ),
        ],
    ),
    (
        "export",
        &[
            ("Write the rules for nft", "export nftables --to rules.nft"),
            ("And what loads them when the gateway starts", "export boot --to boot"),
            ("Write every sheet into a workbook", "export xlsx --to site.xlsx"),
        ],
    ),
    (
        "load",
        &[
            ("Load the rules onto a gateway, and ask before they stay", "load root@10.44.10.1"),
            ("Try everything there, and load nothing", "load root@10.44.10.1 --dry-run"),
            (
                "The same onto a gateway that takes lists by NETCONF",
                "load netconf://admin@10.44.10.1 --dry-run",
            ),
            ("Keep a load that waits for it", "load root@10.44.10.1 --confirm 3f9a01c7"),
        ],
    ),
    (
        "verify",
        &[
            ("Hold a gateway against the plan and the walk", "verify root@10.44.10.1"),
            (
                "The same with what it printed, and keep a page",
                "verify --running ruleset.txt --page kept.md",
            ),
        ],
    ),
    (
        "simulate",
        &[
            ("Serve one NETCONF session, as a subsystem of sshd", "simulate gateway --state gw"),
            (
                "Send the gateway a packet",
                "simulate packet --state gw --enters core.80 10.44.80.20 10.44.60.10 tcp/443",
            ),
        ],
    ),
    (
        "audit",
        &[
            ("Compare a running gateway with the plan", "audit ruleset.txt"),
            ("Compare a worksheet that was changed by hand", "audit worksheet.csv"),
        ],
    ),
    ("blocked", &[("Summarise a gateway's log", "blocked gateway.log")]),
    (
        "services",
        &[
            ("Find a service by port", "services tcp/443"),
            ("Find services by purpose", "services print"),
        ],
    ),
    ("completions", &[("Set up completion in bash", "completions bash")]),
    ("man", &[("Write the manual pages", "man --to man1")]),
];

/// The examples of a command; none for a name that is no command.
pub fn examples(command: &str) -> &'static [Example] {
    EXAMPLES.iter().find(|(name, _)| *name == command).map_or(&[], |(_, examples)| *examples)
}
