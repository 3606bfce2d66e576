//! What a decoder worker may do: read its pipe, compute, write its pipe. Nothing else, whatever a script manages to do
//! to the interpreter.

use std::collections::BTreeMap;
use std::io;

use rustix::process::{DumpableBehavior, Gid, Resource, Rlimit, Signal, Uid, nice};
use rustix::process::{set_dumpable_behavior, set_parent_process_death_signal, setrlimit};
use rustix::thread::{set_no_new_privs, set_thread_groups, set_thread_res_gid, set_thread_res_uid};
use seccompiler::{SeccompAction, SeccompFilter, TargetArch, apply_filter};

/// Address space: scripts are held to 8 MB each by the interpreter, and this holds the interpreter.
const ADDRESS_SPACE: u64 = 2 << 30;
/// Processor time in all; a worker that lives long is replaced.
const PROCESSOR_S: u64 = 3600;
/// The account `nobody`, which workers run as if the service runs as root.
const NOBODY: u32 = 65_534;

/// System calls that a computation needs: memory, signals, clocks, reading and writing what is open, and the end.
#[cfg(target_os = "linux")]
const ALLOWED: &[i64] = &[
    libc::SYS_read,
    libc::SYS_write,
    libc::SYS_readv,
    libc::SYS_writev,
    libc::SYS_close,
    libc::SYS_mmap,
    libc::SYS_munmap,
    libc::SYS_mremap,
    libc::SYS_mprotect,
    libc::SYS_madvise,
    libc::SYS_brk,
    libc::SYS_futex,
    libc::SYS_clock_gettime,
    libc::SYS_clock_getres,
    libc::SYS_gettimeofday,
    libc::SYS_getrandom,
    libc::SYS_sched_yield,
    libc::SYS_sigaltstack,
    libc::SYS_rt_sigaction,
    libc::SYS_rt_sigprocmask,
    libc::SYS_rt_sigreturn,
    libc::SYS_getpid,
    libc::SYS_gettid,
    libc::SYS_getcpu,
    libc::SYS_exit,
    libc::SYS_exit_group,
    libc::SYS_restart_syscall,
];

/// Restricts this process. `niceness` is its scheduling priority.
///
/// # Errors
/// If a limit cannot be set. Without system-call filters in the kernel the other limits stand.
pub(super) fn enter(niceness: i32) -> io::Result<()> {
    nice(niceness)?;
    set_no_new_privs(true)?;
    set_dumpable_behavior(DumpableBehavior::NotDumpable)?;
    if rustix::process::getuid().is_root() {
        let (gid, uid) = (Gid::from_raw(NOBODY), Uid::from_raw(NOBODY));
        set_thread_groups(&[])?;
        set_thread_res_gid(gid, gid, gid)?;
        set_thread_res_uid(uid, uid, uid)?;
    }
    // Only now: a change of user clears it (prctl(2)). Workers end with the service, even if that is killed.
    set_parent_process_death_signal(Some(Signal::KILL))?;
    let limit = |resource, most: u64| setrlimit(resource, Rlimit { current: Some(most), maximum: Some(most) });
    limit(Resource::As, ADDRESS_SPACE)?;
    limit(Resource::Cpu, PROCESSOR_S)?;
    limit(Resource::Core, 0)?;
    limit(Resource::Fsize, 0)?;
    limit(Resource::Nproc, 0)?;
    // No file and no socket can be opened; those that are open stay.
    limit(Resource::Nofile, 0)?;
    if let Err(why) = filter() {
        eprintln!("herond decode-worker: system calls are not filtered: {why}");
    }
    Ok(())
}

fn filter() -> Result<(), Box<dyn std::error::Error>> {
    let arch: TargetArch = std::env::consts::ARCH.try_into()?;
    let rules: BTreeMap<i64, Vec<seccompiler::SeccompRule>> = ALLOWED.iter().map(|call| (*call, Vec::new())).collect();
    // An error, not the end: the standard library asks for some that it can do without.
    let refused = SeccompAction::Errno(libc::EPERM as u32);
    let program: seccompiler::BpfProgram =
        SeccompFilter::new(rules, refused, SeccompAction::Allow, arch)?.try_into()?;
    apply_filter(&program)?;
    Ok(())
}
