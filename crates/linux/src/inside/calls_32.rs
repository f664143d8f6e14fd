//! Names of system calls of programs of 32 bits on x86, which have numbers of their own; arch/x86/entry/syscalls/syscall_32.tbl.

/// Names in the order of the numbers; a dash where there is none.
const NAMES: &str = "\
    restart_syscall exit fork read write open close waitpid creat link unlink execve chdir time mknod chmod \
    lchown break oldstat lseek getpid mount umount setuid getuid stime ptrace alarm oldfstat pause utime \
    stty gtty access nice ftime sync kill rename mkdir rmdir dup pipe times prof brk setgid getgid signal \
    geteuid getegid acct umount2 lock ioctl fcntl mpx setpgid ulimit oldolduname umask chroot ustat dup2 \
    getppid getpgrp setsid sigaction sgetmask ssetmask setreuid setregid sigsuspend sigpending sethostname \
    setrlimit getrlimit getrusage gettimeofday settimeofday getgroups setgroups select symlink oldlstat \
    readlink uselib swapon reboot readdir mmap munmap truncate ftruncate fchmod fchown getpriority \
    setpriority profil statfs fstatfs ioperm socketcall syslog setitimer getitimer stat lstat fstat olduname \
    iopl vhangup idle vm86old wait4 swapoff sysinfo ipc fsync sigreturn clone setdomainname uname modify_ldt \
    adjtimex mprotect sigprocmask create_module init_module delete_module get_kernel_syms quotactl getpgid \
    fchdir bdflush sysfs personality afs_syscall setfsuid setfsgid _llseek getdents _newselect flock msync \
    readv writev getsid fdatasync _sysctl mlock munlock mlockall munlockall sched_setparam sched_getparam \
    sched_setscheduler sched_getscheduler sched_yield sched_get_priority_max sched_get_priority_min \
    sched_rr_get_interval nanosleep mremap setresuid getresuid vm86 query_module poll nfsservctl setresgid \
    getresgid prctl rt_sigreturn rt_sigaction rt_sigprocmask rt_sigpending rt_sigtimedwait rt_sigqueueinfo \
    rt_sigsuspend pread64 pwrite64 chown getcwd capget capset sigaltstack sendfile getpmsg putpmsg vfork \
    ugetrlimit mmap2 truncate64 ftruncate64 stat64 lstat64 fstat64 lchown32 getuid32 getgid32 geteuid32 \
    getegid32 setreuid32 setregid32 getgroups32 setgroups32 fchown32 setresuid32 getresuid32 setresgid32 \
    getresgid32 chown32 setuid32 setgid32 setfsuid32 setfsgid32 pivot_root mincore madvise getdents64 \
    fcntl64 - - gettid readahead setxattr lsetxattr fsetxattr getxattr lgetxattr fgetxattr listxattr \
    llistxattr flistxattr removexattr lremovexattr fremovexattr tkill sendfile64 futex sched_setaffinity \
    sched_getaffinity set_thread_area get_thread_area io_setup io_destroy io_getevents io_submit io_cancel \
    fadvise64 - exit_group lookup_dcookie epoll_create epoll_ctl epoll_wait remap_file_pages set_tid_address \
    timer_create timer_settime timer_gettime timer_getoverrun timer_delete clock_settime clock_gettime \
    clock_getres clock_nanosleep statfs64 fstatfs64 tgkill utimes fadvise64_64 vserver mbind get_mempolicy \
    set_mempolicy mq_open mq_unlink mq_timedsend mq_timedreceive mq_notify mq_getsetattr kexec_load waitid - \
    add_key request_key keyctl ioprio_set ioprio_get inotify_init inotify_add_watch inotify_rm_watch \
    migrate_pages openat mkdirat mknodat fchownat futimesat fstatat64 unlinkat renameat linkat symlinkat \
    readlinkat fchmodat faccessat pselect6 ppoll unshare set_robust_list get_robust_list splice \
    sync_file_range tee vmsplice move_pages getcpu epoll_pwait utimensat signalfd timerfd_create eventfd \
    fallocate timerfd_settime timerfd_gettime signalfd4 eventfd2 epoll_create1 dup3 pipe2 inotify_init1 \
    preadv pwritev rt_tgsigqueueinfo perf_event_open recvmmsg fanotify_init fanotify_mark prlimit64 \
    name_to_handle_at open_by_handle_at clock_adjtime syncfs sendmmsg setns process_vm_readv \
    process_vm_writev kcmp finit_module sched_setattr sched_getattr renameat2 seccomp getrandom memfd_create \
    bpf execveat socket socketpair bind connect listen accept4 getsockopt setsockopt getsockname getpeername \
    sendto sendmsg recvfrom recvmsg shutdown userfaultfd membarrier mlock2 copy_file_range preadv2 pwritev2 \
    pkey_mprotect pkey_alloc pkey_free statx arch_prctl io_pgetevents rseq - - - - - - semget semctl shmget \
    shmctl shmat shmdt msgget msgsnd msgrcv msgctl clock_gettime64 clock_settime64 clock_adjtime64 \
    clock_getres_time64 clock_nanosleep_time64 timer_gettime64 timer_settime64 timerfd_gettime64 \
    timerfd_settime64 utimensat_time64 pselect6_time64 ppoll_time64 - io_pgetevents_time64 recvmmsg_time64 \
    mq_timedsend_time64 mq_timedreceive_time64 semtimedop_time64 rt_sigtimedwait_time64 futex_time64 \
    sched_rr_get_interval_time64 pidfd_send_signal io_uring_setup io_uring_enter io_uring_register open_tree \
    move_mount fsopen fsconfig fsmount fspick pidfd_open clone3 close_range openat2 pidfd_getfd faccessat2 \
    process_madvise epoll_pwait2 mount_setattr quotactl_fd landlock_create_ruleset landlock_add_rule \
    landlock_restrict_self memfd_secret process_mrelease futex_waitv set_mempolicy_home_node cachestat \
    fchmodat2 map_shadow_stack futex_wake futex_wait futex_requeue statmount listmount lsm_get_self_attr \
    lsm_set_self_attr lsm_list_modules mseal";

/// The name of a system call. Calls that were made anew for times of 64 bits are named as before.
pub fn name(number: i64) -> Option<&'static str> {
    let name = NAMES.split(' ').nth(usize::try_from(number).ok()?).filter(|name| *name != "-")?;
    Some(name.strip_suffix("_time64").unwrap_or(name))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_have_names() {
        let told = [3, 4, 102, 162, 168, 240, 407, 422, 435].map(name);
        let names = [
            "read",
            "write",
            "socketcall",
            "nanosleep",
            "poll",
            "futex",
            "clock_nanosleep",
            "futex",
            "clone3",
        ];
        assert_eq!(told, names.map(Some));
        assert_eq!([name(17), name(-1), name(9_999)], [Some("break"), None, None]);
        assert_eq!(name(222), None);
    }
}
