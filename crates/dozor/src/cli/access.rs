//! `dozor access`: what cannot be read here, and what would allow it.

use super::options::KernelFiles;
use anyhow::Result;
use clap::Args;
use dozor_linux::access::{Finding, Standing, report};
use std::io::{self, Write as _};

#[derive(Args)]
pub struct Access {
    #[command(flatten)]
    files: KernelFiles,
}

impl Access {
    pub fn run(self) -> Result<Option<i32>> {
        let findings = report(&self.files.roots());
        let program =
            std::env::current_exe().map_or_else(|_| "dozor".to_owned(), |path| path.display().to_string());
        let mut out = io::BufWriter::new(io::stdout().lock());
        for Finding { what, standing, found, remedy } in &findings {
            let sign = match standing {
                Standing::Open => "✓",
                Standing::Denied => "×",
                Standing::Missing => "–",
            };
            writeln!(out, "{sign} {what}: {found}")?;
            if !remedy.is_empty() {
                writeln!(out, "    to change that: {}", remedy.replace("FILE", &program))?;
            }
        }
        let denied = findings.iter().filter(|finding| finding.standing == Standing::Denied).count();
        if denied > 0 {
            writeln!(out, "\nAll at once, for this program without root:")?;
            writeln!(
                out,
                "    sudo setcap cap_sys_ptrace,cap_net_admin,cap_dac_read_search,cap_bpf,cap_perfmon+ep {program}"
            )?;
            writeln!(out, "For a recorder that runs as a service, in its unit file:")?;
            writeln!(
                out,
                "    AmbientCapabilities=CAP_SYS_PTRACE CAP_NET_ADMIN CAP_DAC_READ_SEARCH CAP_BPF CAP_PERFMON"
            )?;
        }
        out.flush()?;
        Ok(None)
    }
}
