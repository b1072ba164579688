//! The engine holds itself. A file may make a codec do what its author wants; these are the walls that
//! stand around it then.
//!
//! [`hold`] is called before the job is read: no new privileges, no sockets, no other programs, no look
//! into other processes, and the first to go when the machine runs out of memory.
//! [`confine`] follows as soon as the job is known: only its files can be opened, its sources only for
//! reading, and nothing can grow without end. Outputs are created before and stay open, so that nothing
//! in their folder can be opened for writing; finished files there are out of reach.
//!
//! Where the kernel lacks one of these (Landlock is there from Linux 5.13 on), the others hold, and the
//! engine says so on its standard error, which whoever started it puts into the log.

use std::collections::BTreeMap;
use std::os::fd::{AsFd, OwnedFd};

use beryl_core::protocol::{FileRef, Job, NOT_CONFINED, SourceRef};
use beryl_media::{lies_apart, open_folder_of, open_for_reading};
use landlock::{
    ABI, Access, AccessFs, AccessNet, BitFlags, PathBeneath, Ruleset, RulesetAttr, RulesetCreatedAttr, RulesetError,
    RulesetStatus, Scope,
};
use nix::sys::resource::{Resource, setrlimit};
use nix::sys::signal::{SigSet, Signal};
use seccompiler::{
    BpfProgram, SeccompAction, SeccompCmpArgLen, SeccompCmpOp, SeccompCondition, SeccompFilter, SeccompRule, apply_filter,
};

/// The largest file of a job that makes pictures to look at.
const MOST_TO_LOOK_AT: u64 = 4 << 30;
/// What [`confine`] can ask of a kernel; an older one gives what it has.
const NEWEST: ABI = ABI::V6;

/// Gives up, before anything of the outside is read, what no job needs.
pub(crate) fn hold() {
    let limits = [
        ("crash dumps", setrlimit(Resource::RLIMIT_CORE, 0, 0)),
        // A file that reaches its limit is an error to be told, not a signal to die of.
        ("signals", SigSet::from(Signal::SIGXFSZ).thread_block()),
    ];
    for (what, limit) in limits {
        if let Err(error) = limit {
            missing(what, &error);
        }
    }
    if let Err(error) = std::fs::write("/proc/self/oom_score_adj", "1000") {
        missing("first to go when memory ends", &error);
    }
    match filters() {
        Ok(filters) => {
            for filter in filters {
                if let Err(error) = apply_filter(&filter) {
                    missing("system calls (seccomp)", &error);
                }
            }
        }
        Err(error) => missing("system calls (seccomp)", &error),
    }
}

/// Closes everything but the files of `job`. Called while the process has one thread: those to come inherit it.
pub(crate) fn confine(job: &Job) {
    if let Some(most) = most_file(job)
        && let Err(error) = setrlimit(Resource::RLIMIT_FSIZE, most, most)
    {
        missing("file size", &error);
    }
    match restrict(job) {
        Ok(RulesetStatus::FullyEnforced) => {}
        Ok(RulesetStatus::PartiallyEnforced) => missing("files (Landlock)", &"the kernel knows only some of its rules"),
        Ok(RulesetStatus::NotEnforced) => missing("files (Landlock)", &"the kernel has none"),
        Err(error) => missing("files (Landlock)", &error),
    }
}

fn missing(what: &str, why: &dyn std::fmt::Display) {
    eprintln!("{NOT_CONFINED} {what}: {why}");
}

fn most_file(job: &Job) -> Option<u64> {
    match job {
        Job::Encode { runs, .. } => {
            runs.iter().map(|run| run.plan.most_bytes()).try_fold(0, |most, of_run| of_run.map(|size| size.0.max(most)))
        }
        Job::Probe { .. } | Job::Scan { .. } | Job::Compare { .. } | Job::Stills { .. } => Some(MOST_TO_LOOK_AT),
    }
}

/// What no codec needs: the network, other programs, other processes, and the doors around these walls.
const REFUSED: &[libc::c_long] = &[
    libc::SYS_socket,
    libc::SYS_socketpair,
    libc::SYS_connect,
    libc::SYS_bind,
    libc::SYS_listen,
    libc::SYS_accept,
    libc::SYS_accept4,
    libc::SYS_sendto,
    libc::SYS_sendmsg,
    libc::SYS_sendmmsg,
    libc::SYS_execve,
    libc::SYS_execveat,
    libc::SYS_ptrace,
    libc::SYS_process_vm_readv,
    libc::SYS_process_vm_writev,
    libc::SYS_kill,
    libc::SYS_tkill,
    libc::SYS_pidfd_open,
    libc::SYS_pidfd_getfd,
    libc::SYS_pidfd_send_signal,
    libc::SYS_bpf,
    libc::SYS_perf_event_open,
    libc::SYS_userfaultfd,
    // It makes system calls that no filter sees.
    libc::SYS_io_uring_setup,
    libc::SYS_io_uring_enter,
    libc::SYS_io_uring_register,
    libc::SYS_open_by_handle_at,
    libc::SYS_mount,
    libc::SYS_umount2,
    libc::SYS_pivot_root,
    libc::SYS_chroot,
    libc::SYS_unshare,
    libc::SYS_setns,
    libc::SYS_keyctl,
    libc::SYS_add_key,
    libc::SYS_request_key,
    libc::SYS_init_module,
    libc::SYS_finit_module,
    libc::SYS_kexec_load,
    libc::SYS_reboot,
    #[cfg(target_arch = "x86_64")]
    libc::SYS_fork,
    #[cfg(target_arch = "x86_64")]
    libc::SYS_vfork,
];

/// One filter that refuses, and one that makes the C library start threads by the call whose flags a filter can see.
fn filters() -> Result<[BpfProgram; 2], seccompiler::BackendError> {
    let thread = u64::from(libc::CLONE_THREAD.unsigned_abs());
    let no_thread = SeccompCondition::new(0, SeccompCmpArgLen::Dword, SeccompCmpOp::MaskedEq(thread), 0)?;
    let mut refused: BTreeMap<i64, Vec<SeccompRule>> = REFUSED.iter().flat_map(|call| by_all_numbers(*call)).collect();
    refused.insert(libc::SYS_clone, vec![SeccompRule::new(vec![no_thread])?]);
    let unknown = BTreeMap::from([(libc::SYS_clone3, Vec::new())]);
    let filter = |rules, error: i32| -> Result<BpfProgram, seccompiler::BackendError> {
        let answer = SeccompAction::Errno(error.unsigned_abs());
        SeccompFilter::new(rules, SeccompAction::Allow, answer, std::env::consts::ARCH.try_into()?)?.try_into()
    };
    Ok([filter(refused, libc::EPERM)?, filter(unknown, libc::ENOSYS)?])
}

/// Bit 30 marks the calls of programs with short pointers (x32), which a kernel may know by their own numbers too.
fn by_all_numbers(call: libc::c_long) -> impl Iterator<Item = (i64, Vec<SeccompRule>)> {
    const SHORT_POINTERS: i64 = 0x4000_0000;
    let short = cfg!(target_arch = "x86_64").then_some((call | SHORT_POINTERS, Vec::new()));
    std::iter::once((call, Vec::new())).chain(short)
}

fn restrict(job: &Job) -> Result<RulesetStatus, RulesetError> {
    let mut rules = Rules::default();
    rules.of_job(job);
    let status = Ruleset::default()
        .handle_access(AccessFs::from_all(NEWEST))?
        .handle_access(AccessNet::from_all(NEWEST))?
        .scope(Scope::from_all(NEWEST))?
        .create()?
        .add_rules(rules.0.iter().map(|(place, access)| Ok::<_, RulesetError>(PathBeneath::new(place.as_fd(), *access))))?
        .restrict_self()?;
    Ok(status.ruleset)
}

/// Places that are open already, and what may be done there. What cannot be opened now is told of by the job.
#[derive(Default)]
struct Rules(Vec<(OwnedFd, BitFlags<AccessFs>)>);

impl Rules {
    fn of_job(&mut self, job: &Job) {
        // The starter gives every engine a working folder of its own.
        let scratch = AccessFs::ReadDir | AccessFs::RemoveDir | AccessFs::MakeDir;
        self.add(std::fs::File::open(".").ok(), scratch | written_and_removed());
        match job {
            Job::Probe { source } | Job::Scan { source, .. } => self.read_source(source),
            Job::Encode { source, runs, .. } => {
                self.read_source(source);
                for run in runs {
                    run.assets.iter().for_each(|asset| self.read(&asset.file));
                    for output in &run.outputs {
                        self.read(output);
                        // Where the source lies beside its outputs it could be removed as well. What is given up there
                        // is left for whoever started the engine to remove.
                        if lies_apart(source, output) {
                            self.folder_of(output, AccessFs::RemoveFile.into());
                        }
                    }
                }
            }
            Job::Compare { reference, file, film } => {
                self.read_source(&reference.source);
                reference.assets.iter().for_each(|asset| self.read(&asset.file));
                self.read_source(file);
                if let Some(film) = film {
                    self.folder_of(&film.output, written_and_removed());
                }
            }
            Job::Stills { source, folder } => {
                self.read_source(source);
                self.add(std::fs::File::open(folder).ok(), written_and_removed());
            }
        }
    }

    fn read_source(&mut self, source: &SourceRef) {
        match source.sequence {
            None => self.read(&source.file),
            // Its images can be more than a process can keep open.
            Some(_) => self.folder_of(&source.file, AccessFs::ReadFile.into()),
        }
    }

    /// A folder in the place of a file is seen to be one, and what it holds stays out of reach.
    fn read(&mut self, file: &FileRef) {
        let Ok(file) = open_for_reading(file) else { return };
        let is_folder = file.metadata().is_ok_and(|metadata| metadata.is_dir());
        self.add(Some(file), if is_folder { AccessFs::ReadDir.into() } else { AccessFs::ReadFile.into() });
    }

    fn folder_of(&mut self, file: &FileRef, access: BitFlags<AccessFs>) {
        self.add(open_folder_of(file).ok(), access);
    }

    fn add(&mut self, place: Option<impl Into<OwnedFd>>, access: BitFlags<AccessFs>) {
        self.0.extend(place.map(|place| (place.into(), access)));
    }
}

/// What it takes to write files, read them again, and remove them.
fn written_and_removed() -> BitFlags<AccessFs> {
    AccessFs::ReadFile | AccessFs::WriteFile | AccessFs::MakeReg | AccessFs::Truncate | AccessFs::RemoveFile
}
