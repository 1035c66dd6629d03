//! Arguments of `simulate`.

use clap::{Args, Subcommand, ValueEnum};
use std::net::IpAddr;
use std::path::PathBuf;

/// Arguments of `simulate`.
#[derive(Clone, Debug, Args)]
pub struct Simulate {
    /// What to do with it
    #[command(subcommand)]
    pub what: Simulated,
}

/// What a simulated gateway does.
#[derive(Clone, Debug, Subcommand)]
pub enum Simulated {
    /// Serve one NETCONF session on standard input and output, as a subsystem of sshd for example
    Gateway {
        /// The folder that holds the gateway; sessions share it
        #[arg(long, value_name = "DIR")]
        state: PathBuf,
        /// Give a new gateway this interface [default: those of the plan]
        #[arg(long, value_name = "NAME")]
        interface: Vec<String>,
        /// Let this go wrong
        #[arg(long, value_enum, value_name = "WHAT")]
        fault: Vec<FaultName>,
    },
    /// Send it a packet: the first of a conversation, which it decides, counts and logs
    Packet {
        /// The folder that holds the gateway
        #[arg(long, value_name = "DIR")]
        state: PathBuf,
        /// The interface that the packet comes in by
        #[arg(long, value_name = "NAME")]
        enters: String,
        /// The interface that it would go out by
        #[arg(long, value_name = "NAME")]
        leaves: Option<String>,
        /// Its source
        from: IpAddr,
        /// Its destination
        to: IpAddr,
        /// What it asks for, like tcp/443 or icmp/echo
        service: String,
    },
    /// Let time pass for it
    Wait {
        /// The folder that holds the gateway
        #[arg(long, value_name = "DIR")]
        state: PathBuf,
        /// How long, like 90s or 5m
        #[arg(value_parser = super::load::seconds)]
        time: u32,
    },
    /// Print what it has done so far
    Log {
        /// The folder that holds the gateway
        #[arg(long, value_name = "DIR")]
        state: PathBuf,
    },
}

/// What can go wrong with a simulated gateway.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum FaultName {
    /// Somebody else holds the lock of the candidate
    Locked,
    /// The candidate holds changes that somebody has not committed
    Edited,
    /// It refuses a value when it validates
    Refuses,
    /// It cuts the line when it has committed
    Drops,
    /// What runs after a commit is not what was committed
    Forgets,
}
