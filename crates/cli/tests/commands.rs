//! The built program, as an ordinary account meets it: on files in a temporary
//! folder, without the kernel.

#![allow(clippy::unwrap_used)]

use std::fs;
use std::io::Write;

#[path = "common/desk.rs"]
mod desk;

use desk::Desk;
use tipstaff_testing::assert_told_well;

const ORDERS: &str = include_str!("../demo/orders.toml");

/// Not eprintln: the test runner would keep that to itself.
fn skipped(why: &str) {
    std::io::stderr().write_all(format!("SKIPPED: {why}\n").as_bytes()).unwrap();
}

#[test]
fn rules_are_shown_in_order_with_their_positions() {
    let desk = Desk::new(ORDERS);
    insta::assert_snapshot!(desk.text(&["rules", "--all"]));
    let json = desk.json(&["rules"]);
    assert_eq!(json["rules"][3]["name"], "visitors-network");
    assert_eq!(json["rules"][3]["position"], 4);
    assert_eq!(json["rules"][6]["enabled"], false);
    assert_eq!(json["standing"][0]["action"], "deny");
}

#[test]
fn ask_names_the_rule_and_what_failed_before_it() {
    let desk = Desk::new(ORDERS);
    insta::assert_snapshot!(desk.text(&["ask", "ssh", "--source", "198.51.100.200"]));
    insta::assert_snapshot!(desk.text(&["ask", "icmp/echo", "--source", "2001:db8:113::9"]));
    let json = desk.json(&["ask", "tcp/7410", "--source", "203.0.113.9"]);
    assert_eq!((&json["verdict"], &json["known_by"]), (&"allow".into(), &"orders".into()));
    let json = desk.json(&["ask", "protocol/47", "--source", "203.0.113.9"]);
    assert_eq!(json["by"], "the standing answer inbound");
}

#[test]
fn a_question_that_is_none_gets_the_mend() {
    let desk = Desk::new(ORDERS);
    for question in ["tcp/*", "tcp/99999", "shs", "any"] {
        let text = desk.text(&["ask", question, "--source", "203.0.113.9"]);
        assert!(
            text.contains("Ask about packets: tcp/22") && text.ends_with("(exit code 2)"),
            "{text}"
        );
    }
}

#[test]
fn wrong_orders_are_shown_with_place_and_mend_and_nothing_is_touched() {
    let wrong = ORDERS
        .replace("inbound = \"deny\"", "inbound = \"denied\"")
        .replace("source = \"night-staff\"", "source = \"nigth-staff\"\nprogram = \"domed\"")
        .replace("name = \"ping-inside\"", "name = \"shell-for-staff\"");
    let desk = Desk::new(&wrong);
    insta::assert_snapshot!(desk.text(&["post"]));
    assert!(!desk.path().join("run").exists());
    let json = desk.json(&["post", "--check"]);
    assert_eq!(json["faults"].as_array().unwrap().len(), 4);
    assert_eq!(json["faults"][0]["place"]["line"], 6);
    assert_eq!(json["exit_code"], 2);
}

#[test]
fn post_check_needs_no_root_and_says_what_it_would_do() {
    let desk = Desk::new(ORDERS);
    // What listens here is this machine's, and what is in force only root can see.
    let text = desk.text(&["post", "--check"]);
    let text = text.replace(
        "what it means, compared with no gate (only root can see what is in force):",
        "what changes, compared with no gate:",
    );
    let lines: Vec<&str> =
        text.lines().filter(|line| !line.contains("no longer reachable by anybody")).collect();
    insta::assert_snapshot!(lines.join("\n"));
}

#[test]
fn a_missing_file_and_an_unknown_namespace_are_named() {
    let desk = Desk::new(ORDERS);
    insta::assert_snapshot!(desk.text(&["rules", "--orders", "elsewhere.toml"]));
    insta::assert_snapshot!(desk.text(&["survey", "--namespace", "ts-nowhere"]));
}

#[test]
fn the_survey_sees_a_socket_of_this_test_and_who_is_let_in() {
    let listener = std::net::TcpListener::bind("0.0.0.0:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    let allow = format!(
        "[[rules]]\nname = \"probe\"\naction = \"allow\"\ntraffic = \"tcp/{port}\"\nsource = \
         \"partner\"\n"
    );
    let desk = Desk::new(&format!("{ORDERS}{allow}"));
    let json = desk.json(&["survey"]);
    let rows = json["listeners"].as_array().unwrap();
    let row = rows.iter().find(|row| row["port"] == port).unwrap();
    assert_eq!((&row["lets_in"], &row["scope"]), (&"partner".into(), &"all".into()));
    assert_eq!(row["owner"]["programs"][0]["pid"], std::process::id());
}

#[test]
fn reach_from_here_tells_an_answering_port_from_one_that_nobody_hears() {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    let closed = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let rule = |name: &str, port: u16| {
        format!("[[rules]]\nname = \"{name}\"\naction = \"allow\"\ntraffic = \"tcp/{port}\"\n")
    };
    let desk = Desk::new(&format!("{ORDERS}{}{}", rule("open", port), rule("closed", closed)));
    let output = desk.run(&["reach", "--json"]);
    assert_eq!(output.status.code(), Some(1));
    let json: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
    let cell = |port: u16| {
        let rows = json["rows"].as_array().unwrap();
        rows.iter().find(|r| r["subject"] == format!("tcp/{port}")).unwrap()["cells"][0].clone()
    };
    assert_eq!(cell(port)["observed"]["outcome"], "answers");
    assert_eq!(cell(closed)["observed"]["outcome"], "refuses");
    assert_eq!(cell(closed)["why"]["reason"], "nothing-listens");
}

/// The program as an account without rights; only root can become one.
fn as_nobody(desk: &Desk, arguments: &[&str]) -> Option<String> {
    use std::os::unix::fs::PermissionsExt;
    use std::os::unix::process::CommandExt;
    if !nix::unistd::geteuid().is_root() {
        return Some(desk.text(arguments));
    }
    let program = desk.path().join("tipstaff");
    tipstaff_testing::executable::copied(assert_cmd::cargo::cargo_bin!("tipstaff"), &program);
    for path in [desk.path(), &program] {
        fs::set_permissions(path, fs::Permissions::from_mode(0o755)).unwrap();
    }
    let mut command = std::process::Command::new(program);
    command.args(arguments).current_dir(desk.path()).env_clear().env("NO_COLOR", "1");
    command
        .env("TIPSTAFF_ORDERS", "orders.toml")
        .env("TIPSTAFF_RUN", desk.path().join("run"))
        .env("TIPSTAFF_HISTORY", desk.path().join("history"));
    let output = command.uid(65_534).gid(65_534).output().unwrap();
    let text = |bytes: Vec<u8>| String::from_utf8(bytes).unwrap();
    let code = output.status.code()?;
    Some(format!("{}{}(exit code {code})", text(output.stdout), text(output.stderr)))
}

#[test]
fn without_root_the_exact_mend_is_told() {
    let desk = Desk::new(ORDERS);
    for arguments in [&["post"][..], &["withdraw"]] {
        let text = as_nobody(&desk, arguments).unwrap();
        insta::assert_snapshot!(text.replace(desk.path().to_str().unwrap(), "FOLDER"));
    }
}

#[test]
fn without_root_another_source_is_unknown_and_never_silent() {
    let desk = Desk::new(ORDERS);
    let text = as_nobody(&desk, &["reach", "--as", "203.0.113.9"]).unwrap();
    if text.contains("there is no return route") {
        skipped("this machine has no route to a documentation address");
        return;
    }
    assert!(text.ends_with("(exit code 1)"), "{text}");
    let once = text.matches("unknown: only root can probe from another source").count();
    assert_eq!(once, 1, "{text}");
    assert!(text.contains("unknown (orders)") && !text.contains("silent ("), "{text}");
}

#[test]
fn a_kernel_that_refuses_bpf_is_told_and_nothing_is_left_half_done() {
    // Root of a user namespace of its own: bpf(2) and mounting a bpffs are refused.
    let desk = Desk::new(ORDERS);
    let mut command = std::process::Command::new("unshare");
    command.args(["-r", "-n"]).arg(assert_cmd::cargo::cargo_bin!("tipstaff")).arg("post");
    command.current_dir(desk.path()).env("TIPSTAFF_ORDERS", "orders.toml");
    command
        .env("TIPSTAFF_RUN", desk.path().join("run"))
        .env("TIPSTAFF_HISTORY", desk.path().join("history"));
    let output = match command.output() {
        Ok(output) if !String::from_utf8_lossy(&output.stderr).starts_with("unshare") => output,
        _ => {
            skipped("no user namespaces here, so nobody to be refused");
            return;
        }
    };
    let text = String::from_utf8_lossy(&output.stderr);
    assert_eq!(output.status.code(), Some(4), "{text}");
    assert!(text.contains("the kernel refused to") && text.contains("CAP_BPF"), "{text}");
    assert!(!desk.path().join("run").exists(), "something was left behind");
}

#[test]
fn the_demo_on_the_snapshot_needs_nothing_at_all() {
    let desk = Desk::new(ORDERS);
    let text = desk.text(&["demo", "--snapshot"]);
    assert_told_well(&text);
    insta::assert_snapshot!(text);
}

#[test]
fn the_demo_plays_for_an_ordinary_account_and_ends_with_a_reach_table() {
    let desk = Desk::new(ORDERS);
    let text = as_nobody(&desk, &["demo"]).unwrap();
    assert_told_well(&text);
    assert!(text.ends_with("(exit code 0)"), "{text}");
    let last = text.rsplit("reach of archive").next().unwrap();
    assert!(last.contains("should answer by rule 3 (weather-for-partners), but refuses"), "{text}");
    if text.contains("stored snapshot") {
        skipped("this machine allows no user namespaces; the demo played its snapshot");
    } else {
        assert!(last.contains("7 differences") && last.contains("silent (wire)"), "{text}");
    }
}

#[test]
fn state_without_a_gate_is_down() {
    let desk = Desk::new(ORDERS);
    insta::assert_snapshot!(desk.text(&["state"]));
    assert_eq!(desk.json(&["state"])["state"], "down");
}

#[test]
fn help_names_every_command_and_the_exit_codes() {
    let desk = Desk::new(ORDERS);
    insta::assert_snapshot!(desk.text(&["--help"]));
}

#[test]
fn a_reader_that_goes_away_ends_the_program_quietly() {
    let desk = Desk::new(ORDERS);
    let program = assert_cmd::cargo::cargo_bin!("tipstaff");
    let shell = format!("{} rules --all | true", program.display());
    let mut command = std::process::Command::new("sh");
    command.args(["-c", &shell]).current_dir(desk.path()).env("TIPSTAFF_ORDERS", "orders.toml");
    let output = command.output().unwrap();
    assert!(output.stderr.is_empty(), "{}", String::from_utf8_lossy(&output.stderr));
}

#[test]
fn tables_are_written_for_other_programs_and_nothing_else_is() {
    let desk = Desk::new(ORDERS);
    for (arguments, heading) in [
        (&["rules", "--csv"][..], "number,name,action,traffic,source"),
        (&["names", "--csv"], "name,kind,holds,used by"),
        (&["survey", "--csv"], "port,local address,program"),
    ] {
        let text = String::from_utf8(desk.run(arguments).stdout).unwrap();
        assert!(text.starts_with(heading), "{arguments:?}: {text}");
        // Without what stands in quotation marks, every line has as many commas.
        let commas =
            |line: &str| line.split('"').step_by(2).collect::<String>().matches(',').count();
        let first = commas(text.lines().next().unwrap());
        assert!(text.lines().all(|line| commas(line) == first), "{arguments:?}: {text}");
    }
    let refused = desk.run(&["ask", "ssh", "--csv"]);
    assert_eq!(refused.status.code(), Some(2));
    assert!(String::from_utf8(refused.stderr).unwrap().contains("this command writes no table"));
}
