//! Truths about traffic: bytes that helpers themselves sent and received, and the kernel's tables of sockets.

use super::helper::{Forked, Helper, agrees, wait_for_go};
use super::{INSIDE, NETWORK, find, wanting};
use dozor_core::catalogue::{Value, process_metric};
use dozor_core::expr::Expression;
use dozor_core::known::Raw;
use dozor_core::reading::{ProcessRow, Reading};
use dozor_core::sample::Sample;
use dozor_core::source::Source as _;
use dozor_core::wanted::Demand;
use dozor_linux::LiveSource;
use std::io::{Read as _, Write as _};
use std::net::{Shutdown, TcpListener, TcpStream, UdpSocket};
use std::os::fd::AsRawFd as _;
use std::sync::Arc;
use std::time::{Duration, Instant};

const PAGE: usize = 30_000;
const PAGES: usize = 24_000;

fn connect(address: &str) -> TcpStream {
    TcpStream::connect(address).expect("a connection")
}

/// A web server: a short answer over each connection.
pub fn serve() {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    println!("> {}", listener.local_addr().expect("an address"));
    let page = vec![7; PAGE];
    for _ in 0..PAGES {
        let (mut peer, _) = listener.accept().expect("a connection");
        peer.write_all(&page).expect("it goes");
    }
    println!("> served");
    wait_for_go();
}

/// Its reader.
pub fn fetch() {
    let address = std::env::var("DOZOR_TEST_ADDRESS").expect("an address");
    let pages = std::env::var("DOZOR_TEST_PAGES").map_or(PAGES, |pages| pages.parse().expect("a number"));
    wait_for_go();
    let mut all = 0;
    for _ in 0..pages {
        all += std::io::copy(&mut connect(&address), &mut std::io::sink()).expect("it comes");
    }
    println!("> {all}");
}

/// Both ends of connections that are shut down but held: one that a reading sees, one that none sees.
pub fn close_and_hold() {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let address = listener.local_addr().expect("an address").to_string();
    let pair = || (connect(&address), listener.accept().expect("the other side").0);
    let exchange = |a: &mut TcpStream, b: &mut TcpStream| {
        std::thread::scope(|scope| {
            scope.spawn(|| a.write_all(&vec![7; 1_000_000]).expect("it goes"));
            b.read_exact(&mut vec![0; 1_000_000]).expect("it comes");
        });
    };
    let (mut seen, mut seen_there) = pair();
    println!("> there");
    wait_for_go();
    exchange(&mut seen, &mut seen_there);
    let (mut unseen, mut unseen_there) = pair();
    exchange(&mut unseen, &mut unseen_there);
    for socket in [&seen, &seen_there, &unseen, &unseen_there] {
        let _ = socket.shutdown(Shutdown::Both);
    }
    println!("> shut");
    wait_for_go();
    drop((seen, seen_there, unseen, unseen_there));
    println!("> closed");
    wait_for_go();
    drop(listener);
}

/// A server that leaves its connection to a child, which it shares it with first.
pub fn hand_on() {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let mut client = connect(&listener.local_addr().expect("an address").to_string());
    let (server, _) = listener.accept().expect("the other side");
    let (descriptor, other) = (server.as_raw_fd(), client.as_raw_fd());
    let mut alone = false;
    let child = Forked::start(|| {
        let block = [7u8; 10_000];
        // SAFETY: the descriptors are open in the child, which closes the other end once.
        unsafe {
            if !std::mem::replace(&mut alone, true) {
                libc::close(other);
            }
            for _ in 0..300 {
                libc::write(descriptor, block.as_ptr().cast(), block.len());
            }
        }
    });
    println!("> {}", child.pid);
    let mut server = Some(server);
    for round in 0..2 {
        wait_for_go();
        if round == 1 {
            server = None;
        }
        child.order();
        client.read_exact(&mut vec![0; 3_000_000]).expect("it comes");
        child.done();
        println!("> sent");
    }
    wait_for_go();
    drop(server);
}

/// Room for a message with one descriptor.
#[repr(C, align(8))]
struct WithDescriptor([u8; 64]);

/// Sends or receives a message of one byte with a descriptor, over a pair of local sockets.
fn pass(over: i32, descriptor: Option<i32>) -> i32 {
    // SAFETY: the message and all that it points to live until the call is over, and there is room for one descriptor.
    unsafe {
        let mut byte = 0u8;
        let mut piece = libc::iovec { iov_base: (&raw mut byte).cast(), iov_len: 1 };
        let mut room = WithDescriptor([0; 64]);
        let mut message: libc::msghdr = std::mem::zeroed();
        (message.msg_iov, message.msg_iovlen) = (&raw mut piece, 1);
        message.msg_control = room.0.as_mut_ptr().cast();
        message.msg_controllen = libc::CMSG_SPACE(4) as usize as _;
        let Some(descriptor) = descriptor else {
            libc::recvmsg(over, &raw mut message, 0);
            return libc::CMSG_DATA(libc::CMSG_FIRSTHDR(&raw const message)).cast::<i32>().read_unaligned();
        };
        let head = libc::CMSG_FIRSTHDR(&raw const message);
        (*head).cmsg_level = libc::SOL_SOCKET;
        (*head).cmsg_type = libc::SCM_RIGHTS;
        (*head).cmsg_len = libc::CMSG_LEN(4) as usize as _;
        libc::CMSG_DATA(head).cast::<i32>().write_unaligned(descriptor);
        libc::sendmsg(over, &raw const message, 0);
        descriptor
    }
}

/// A process that passes its connection to another that is there already, and sleeps.
pub fn pass_on() {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let (here, there) = std::os::unix::net::UnixStream::pair().expect("a pair");
    let over = there.as_raw_fd();
    let child = Forked::start(|| {
        let block = [7u8; 10_000];
        // SAFETY: the descriptors are open in the child.
        unsafe {
            let passed = pass(over, None);
            libc::usleep(400_000);
            for _ in 0..300 {
                libc::write(passed, block.as_ptr().cast(), block.len());
            }
            libc::pause();
        }
    });
    println!("> {} {}", child.pid, listener.local_addr().expect("an address"));
    let (mut server, _) = listener.accept().expect("the other side");
    server.write_all(&[7; 1_000]).expect("it goes");
    wait_for_go();
    pass(here.as_raw_fd(), Some(server.as_raw_fd()));
    drop(server);
    child.order();
    println!("> passed");
    wait_for_go();
}

/// Sends and ends at once, while its connection waits for the other side.
pub fn send_and_leave() {
    let mut stream = connect(&std::env::var("DOZOR_TEST_ADDRESS").expect("an address"));
    stream.write_all(&[7; 1_000]).expect("it goes");
    println!("> there");
    wait_for_go();
    stream.write_all(&vec![7; 50_000]).expect("it goes");
    std::process::exit(0);
}

/// Ten megabytes within a network namespace of its own.
pub fn apart() {
    std::thread::spawn(|| {}).join().expect("a thread");
    // SAFETY: plain calls; the request is a C struct of numbers with room for the name.
    let refused = unsafe {
        let child = libc::fork();
        if child > 0 {
            println!("> {child}");
            libc::waitpid(child, std::ptr::null_mut(), 0);
            return;
        }
        libc::prctl(libc::PR_SET_PDEATHSIG, libc::SIGKILL);
        let refused = libc::unshare(libc::CLONE_NEWNET) != 0;
        let socket = libc::socket(libc::AF_INET, libc::SOCK_DGRAM, 0);
        let mut request: libc::ifreq = std::mem::zeroed();
        request.ifr_name[0] = b'l' as libc::c_char;
        request.ifr_name[1] = b'o' as libc::c_char;
        request.ifr_ifru.ifru_flags = (libc::IFF_UP | libc::IFF_RUNNING) as i16;
        libc::ioctl(socket, libc::SIOCSIFFLAGS, &raw const request);
        refused
    };
    if refused {
        std::process::exit(0);
    }
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let mut client = connect(&listener.local_addr().expect("an address").to_string());
    let (mut server, _) = listener.accept().expect("the other side");
    println!("> there");
    wait_for_go();
    let block = vec![7; 100_000];
    for _ in 0..100 {
        client.write_all(&block).expect("it goes");
        server.read_exact(&mut vec![0; 100_000]).expect("it comes");
    }
    println!("> 10000000");
    wait_for_go();
    std::process::exit(0);
}

/// A socket that reads nothing of what comes.
pub fn lose_datagrams() {
    let here = UdpSocket::bind("127.0.0.1:0").expect("a port");
    let address = here.local_addr().expect("an address");
    println!("> {}", address.port());
    wait_for_go();
    let there = UdpSocket::bind("127.0.0.1:0").expect("a port");
    for _ in 0..2_000 {
        there.send_to(&[7; 1_000], address).expect("it goes");
    }
    println!("> sent");
    wait_for_go();
}

/// A megabyte over UDP, then a little over TCP.
pub fn datagrams() {
    let here = UdpSocket::bind("127.0.0.1:0").expect("a port");
    let there = UdpSocket::bind("127.0.0.1:0").expect("a port");
    wait_for_go();
    for _ in 0..1_000 {
        here.send_to(&[7; 1_000], there.local_addr().expect("an address")).expect("it goes");
        there.recv(&mut [0; 1_000]).expect("it comes");
    }
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    println!("> sent");
    wait_for_go();
    let address = listener.local_addr().expect("an address");
    let mut stream = TcpStream::connect(address).expect("a connection");
    stream.write_all(&[7; 5_000]).expect("it goes");
    println!("> sent");
    wait_for_go();
}

/// Sends and receives datagrams in several ways, over both versions of the protocol; says how many bytes it sent and received.
pub fn exchange_datagrams() {
    wait_for_go();
    let (mut sent, mut received) = (0, 0);
    for (ours, theirs) in [("127.0.0.1:0", "127.0.0.1:0"), ("[::1]:0", "[::1]:0"), ("[::]:0", "127.0.0.1:0")]
    {
        let here = UdpSocket::bind(ours).expect("a port");
        let there = UdpSocket::bind(theirs).expect("a port");
        let mut address = there.local_addr().expect("an address");
        if ours.contains("::]") {
            address.set_ip("::ffff:127.0.0.1".parse().expect("an address"));
        }
        for size in 0..200 {
            sent += here.send_to(&vec![7; size], address).expect("it goes");
            there.peek(&mut [0; 500]).expect("it is there");
            received += there.recv(&mut [0; 500]).expect("it comes");
        }
        here.connect(address).expect("a peer");
        // What a call leaves is gone.
        sent += rustix::io::write(&here, &[7; 300]).expect("it goes");
        received += rustix::io::read(&there, &mut [0; 100]).expect("it comes");
        // One that does not fit is an error and no bytes; another is received by nobody.
        assert!(here.send(&vec![0; 100_000]).is_err());
        sent += here.send(&[7; 40]).expect("it goes");
    }
    println!("> {sent} {received}");
    wait_for_go();
}

/// A server that accepts nobody, with three who wait.
pub fn let_wait() {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let address = listener.local_addr().expect("an address");
    // SAFETY: listen on our own socket once more changes how many may wait.
    assert_eq!(unsafe { libc::listen(listener.as_raw_fd(), 7) }, 0);
    let waiting: Vec<TcpStream> = (0..3).map(|_| connect(&address.to_string())).collect();
    println!("> {}", address.port());
    wait_for_go();
    drop(waiting);
}

fn told(row: &ProcessRow) -> (f64, f64) {
    (row.net_in_bytes.value().unwrap_or(0) as f64, row.net_out_bytes.value().unwrap_or(0) as f64)
}

fn nobodys(reading: &Reading) -> f64 {
    let system = &reading.system;
    (system.unattributed_in.value().unwrap_or(0) + system.unattributed_out.value().unwrap_or(0)) as f64
}

/// Reads until something holds, or long enough.
fn read_until(source: &mut LiveSource, holds: impl Fn(&Reading) -> bool) -> Reading {
    let begin = Instant::now();
    loop {
        let reading = source.read();
        if holds(&reading) || begin.elapsed() > Duration::from_secs(8) {
            return reading;
        }
        std::thread::sleep(Duration::from_millis(50));
    }
}

/// Connections that live for a millisecond: what went over them is the server's and the reader's.
#[test]
fn a_server_of_short_connections_has_its_bytes() {
    let _network = NETWORK.lock();
    let mut server = Helper::start("serve");
    server.says();
    let address = server.says();
    let mut command = std::process::Command::new(std::env::current_exe().expect("our own path"));
    command.env("DOZOR_TEST_ADDRESS", address);
    let mut reader = Helper::spawn(command, "fetch");
    reader.says();
    let mut source = wanting(&[Demand::Sockets]);
    source.read();
    let pids = [server.pid(), reader.pid()];
    let (mut before, mut marked) = (source.read(), 0);
    reader.go();
    let done = std::thread::spawn(move || {
        let got: f64 = reader.says().parse().expect("bytes");
        (reader, got)
    });
    // Who opened connections that no reading saw is not said to have moved nothing.
    let host = Arc::new(source.host());
    while !done.is_finished() {
        let now = source.read();
        let sample = Sample::new(host.clone(), Some(Arc::new(before)), Arc::new(now.clone()));
        let at = sample.now.processes.iter().position(|row| row.pid.value() == Some(pids[1])).expect("a row");
        let net_in = process_metric("net_in").expect("a metric");
        marked += i32::from(net_in.bounded(&sample.process(at)) != (Value::Number(0.0), false));
        before = now;
        std::thread::sleep(Duration::from_millis(40));
    }
    assert!(marked > 0);
    let (_reader, truth) = done.join().expect("the reader");
    let all = |reading: &Reading| pids.map(|pid| told(find(reading, pid)));
    let last = read_until(&mut source, |reading| {
        let [(_, sent), (got, _)] = all(reading);
        sent >= truth * 0.999 && (got >= truth * 0.999 || !INSIDE)
    });
    let [(_, sent), (got, _)] = all(&last);
    agrees("net_out of a server of short connections, bytes", truth, sent, truth * 0.05);
    if INSIDE {
        agrees("net_in of who fetched from it, bytes", truth, got, truth * 0.05);
    } else {
        // By files nobody knows who opened a connection that no reading saw: that is said, and nothing is guessed.
        // They wait some readings for somebody to be found.
        let nobodys = |reading: &Reading| reading.system.unattributed_in.value().unwrap_or(0) as f64;
        let last = read_until(&mut source, |reading| {
            let [_, (got, _)] = all(reading);
            got + nobodys(reading) >= truth * 0.95
        });
        let [_, (got, _)] = all(&last);
        assert!(got <= truth * 1.001, "{got} of {truth}");
        assert!(got + nobodys(&last) >= truth * 0.95, "{got} known, {} nobody's, of {truth}", nobodys(&last));
    }
}

fn reads_pages(address: &str, pages: usize) -> Helper {
    let mut command = std::process::Command::new(std::env::current_exe().expect("our own path"));
    command.env("DOZOR_TEST_ADDRESS", address).env("DOZOR_TEST_PAGES", pages.to_string());
    let mut reader = Helper::spawn(command, "fetch");
    reader.says();
    reader
}

/// Two read from the same server, one four times as much: nobody has to guess who opened what. The third comes and goes
/// between two readings.
#[test]
fn who_opened_the_shortest_connections_is_noted_by_the_kernel() {
    if !INSIDE || !rustix::process::geteuid().is_root() {
        return;
    }
    let _network = NETWORK.lock();
    let mut server = Helper::start("serve");
    server.says();
    let address = server.says();
    let mut source = wanting(&[Demand::Sockets, Demand::Ended]);
    let mut readers = [400, 100].map(|pages| reads_pages(&address, pages));
    let before = source.read();
    readers.iter_mut().for_each(Helper::go);
    let truths = readers.each_mut().map(|reader| reader.says().parse::<f64>().expect("bytes"));
    let mut third = reads_pages(&address, 50);
    third.go();
    let truth: f64 = third.says().parse().expect("bytes");
    third.go();
    let (pid, mut status) = (third.pid(), 0);
    // SAFETY: it is our own child, and the pointer is good.
    unsafe { libc::waitpid(pid as i32, &raw mut status, 0) };
    let (mut of_third, mut last) = (0.0, before);
    let begin = Instant::now();
    while begin.elapsed() < Duration::from_secs(2) {
        std::thread::sleep(Duration::from_millis(200));
        last = source.read();
        let ended = last.ended.iter().find(|row| row.pid.value() == Some(pid));
        of_third += ended.and_then(|row| row.net_in_bytes.value()).unwrap_or(0) as f64;
    }
    for (reader, truth) in readers.iter().zip(truths) {
        agrees(
            "net_in of one of two who fetch from the same, bytes",
            truth,
            told(find(&last, reader.pid())).0,
            0.0,
        );
    }
    agrees("net_in of one who came and went, bytes", truth, of_third, 0.0);
    let (_, sent) = told(find(&last, server.pid()));
    agrees("net_out of their server, bytes", truths[0] + truths[1] + truth, sent, 0.0);
}

/// The kernel no longer lists a socket that both sides shut down; its bytes count once, whoever closes it when.
#[test]
fn a_socket_that_is_closed_but_held_counts_once() {
    let _network = NETWORK.lock();
    let mut child = Helper::start("close and hold");
    child.says();
    child.says();
    let mut source = wanting(&[Demand::Sockets]);
    let before = source.read();
    let pid = child.pid();
    let nobodys_before = nobodys(&before);
    child.go();
    child.says();
    for _ in 0..10 {
        source.read();
        std::thread::sleep(Duration::from_millis(20));
    }
    if INSIDE && rustix::process::geteuid().is_root() {
        let (received, sent) = told(find(&source.read(), pid));
        agrees("net_in over sockets that are shut down and still held, bytes", 2e6, received, 0.0);
        agrees("net_out over sockets that are shut down and still held, bytes", 2e6, sent, 0.0);
    }
    child.go();
    child.says();
    // Of two megabytes each way one end of the connection that nobody saw is known to have come to the listener.
    let last = read_until(&mut source, |reading| told(find(reading, pid)).0 >= 2e6);
    let (received, _) = told(find(&last, pid));
    agrees("net_in over sockets that were shut down and held, bytes", 2e6, received, 0.0);
    // The other end is nobody's, once; other tests may add to what is nobody's.
    let mut all = 0.0;
    for _ in 0..12 {
        let reading = source.read();
        all = told(find(&reading, pid)).1 + nobodys(&reading) - nobodys_before;
        std::thread::sleep(Duration::from_millis(20));
    }
    assert!(all >= 2e6, "{all}");
    let sent = told(find(&source.read(), pid)).1;
    assert!(sent <= 2e6, "nothing is counted twice: {sent}");
}

/// Parent and child hold one connection: the child has its bytes, and both are named. Then the child has it alone.
#[test]
fn a_connection_that_is_handed_on_belongs_to_who_holds_it() {
    let _network = NETWORK.lock();
    let mut child = Helper::start("hand on");
    child.says();
    let grandchild: i64 = child.says().parse().expect("a number");
    let mut source = wanting(&[Demand::Sockets]);
    let pid = child.pid();
    let first = source.read();
    let shared = first.connections.iter().filter(|row| row.pid.value() == Some(grandchild));
    assert!(shared.clone().any(|row| *row.others == *pid.to_string()), "{:?}", first.connections);
    assert!(find(&first, pid).shared_sockets.value() >= Some(1));
    let before = told(find(&first, grandchild)).1;
    child.go();
    child.says();
    child.go();
    child.says();
    let alone = |reading: &Reading| {
        reading.connections.iter().any(|row| row.pid.value() == Some(grandchild) && row.others.is_empty())
    };
    let last = read_until(&mut source, alone);
    let sent = told(find(&last, grandchild)).1 - before;
    agrees("net_out of a child that serves its parent's connection, bytes", 6e6, sent, 0.0);
    assert!(alone(&last), "its parent closed it");
}

/// Who passed it on sleeps: what is sent belongs to whom it was passed to, from the first sample on.
#[test]
fn a_connection_that_was_passed_on_belongs_to_whom_it_was_passed_to() {
    let _network = NETWORK.lock();
    let mut helper = Helper::start("pass on");
    helper.says();
    let said = helper.says();
    let (child, address) = said.split_once(' ').expect("a number and an address");
    let child: i64 = child.parse().expect("a number");
    let mut source = wanting(&[Demand::Sockets]);
    source.read();
    let mut client = connect(address);
    client.read_exact(&mut [0; 1_000]).expect("it comes");
    let pid = helper.pid();
    let known = read_until(&mut source, |reading| told(find(reading, pid)).1 >= 1_000.0);
    assert!(known.connections.iter().any(|row| row.pid.value() == Some(pid)), "by then it holds it");
    for _ in 0..3 {
        source.read();
    }
    helper.go();
    helper.says();
    std::thread::sleep(Duration::from_millis(150));
    source.read();
    client.read_exact(&mut vec![0; 3_000_000]).expect("it comes");
    let last = source.read();
    agrees("net_out of whom a connection was passed to, bytes", 3e6, told(find(&last, child)).1, 0.0);
    agrees("net_out of who passed it on, bytes", 1e3, told(find(&last, pid)).1, 0.0);
}

/// Its connection is still listed when it is gone: what it sent last is its own.
#[test]
fn what_was_sent_just_before_the_end_belongs_to_who_ended() {
    if !rustix::process::geteuid().is_root() {
        return;
    }
    let _network = NETWORK.lock();
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let mut command = std::process::Command::new(std::env::current_exe().expect("our own path"));
    command.env("DOZOR_TEST_ADDRESS", listener.local_addr().expect("an address").to_string());
    let mut child = Helper::spawn(command, "send and leave");
    child.says();
    let peer = listener.accept().expect("the other side");
    child.says();
    let mut source = wanting(&[Demand::Sockets, Demand::Ended]);
    let pid = child.pid();
    for _ in 0..3 {
        source.read();
    }
    child.go();
    child.child.wait().expect("its end");
    let begin = Instant::now();
    let mut sent = None;
    while sent.is_none() && begin.elapsed() < Duration::from_secs(3) {
        let reading = source.read();
        let ended = reading.ended.iter().find(|row| row.pid.value() == Some(pid));
        sent = ended.map(|row| row.net_out_bytes.value().unwrap_or(-1) as f64);
        std::thread::sleep(Duration::from_millis(50));
    }
    drop(peer);
    // What it had sent before the first reading is not ours to tell.
    agrees("net_out just before the end of a process, bytes", 50_000.0, sent.expect("its end"), 0.0);
}

/// Sockets of another network namespace are asked for from within.
#[test]
fn traffic_within_another_network_namespace_is_exact_or_unknown() {
    let _network = NETWORK.lock();
    if !rustix::process::geteuid().is_root() {
        return;
    }
    let mut child = Helper::start("apart");
    child.says();
    let pid: i64 = child.says().parse().expect("a number");
    assert_eq!(child.says(), "there", "root may make a network namespace");
    let mut source = wanting(&[Demand::Sockets]);
    let before = source.read();
    child.go();
    let truth: f64 = child.says().parse().expect("bytes");
    let now = source.read();
    let grown = |of: fn((f64, f64)) -> f64| of(told(find(&now, pid))) - of(told(find(&before, pid)));
    agrees("net_in within another network namespace, bytes", truth, grown(|told| told.0), 0.0);
    agrees("net_out within another network namespace, bytes", truth, grown(|told| told.1), 0.0);
    assert!(find(&now, pid).net_namespace.value() > Some(0));
    assert_eq!(find(&now, i64::from(std::process::id())).net_namespace.value(), Some(0));
    assert!(now.listeners.iter().any(|row| row.pid.value() == Some(pid) && row.namespace.value().is_some()));
}

/// Drops by the kernel's own table; proc_net(5) udp.
#[test]
fn who_loses_datagrams_is_known() {
    let _network = NETWORK.lock();
    let mut child = Helper::start("lose datagrams");
    child.says();
    let port: u16 = child.says().parse().expect("a port");
    let mut source = wanting(&[Demand::Sockets]);
    let before = source.read();
    child.go();
    child.says();
    let now = source.read();
    let table = std::fs::read_to_string("/proc/net/udp").expect("the kernel's table");
    let line =
        table.lines().find(|line| line.contains(&format!(":{port:04X} 00000000:0000"))).expect("its line");
    let truth: f64 = line.split_whitespace().last().and_then(|drops| drops.parse().ok()).expect("a number");
    assert!(truth > 0.0, "its queue is full");
    let drops =
        |reading: &Reading| find(reading, child.pid()).datagram_drops.value().expect("a count") as f64;
    agrees("udp_drops, datagrams", truth, drops(&now) - drops(&before), 0.0);
    let row = now.listeners.iter().find(|row| row.port.value() == Some(i64::from(port))).expect("its socket");
    assert_eq!(row.drops.value().map(|drops| drops as f64), Some(truth));
    assert!(row.queue.value() > Some(0), "what waits to be read");
}

#[test]
fn who_listens_is_listed_with_those_who_wait_and_found_by_the_port() {
    let _network = NETWORK.lock();
    let mut child = Helper::start("let wait");
    child.says();
    let port: i64 = child.says().parse().expect("a port");
    let mut source = wanting(&[Demand::Sockets]);
    source.read();
    let reading = source.read();
    let row = reading.listeners.iter().find(|row| row.port.value() == Some(port)).expect("its socket");
    assert_eq!(row.pid.value(), Some(child.pid()));
    agrees("connections that wait to be accepted", 3.0, row.queue.value().expect("known") as f64, 0.0);
    agrees("connections that may wait", 7.0, row.queue_most.value().expect("known") as f64, 0.0);
    let expression = Expression::parse(&format!("port = {port}")).expect("an expression");
    let sample = Sample::new(Arc::default(), None, Arc::new(reading));
    let bound = expression.bind(&sample, "");
    let held: Vec<i64> = (0..sample.now.processes.len())
        .filter(|at| bound.holds(&sample.process(*at)) == Some(true))
        .filter_map(|at| sample.now.processes[at].pid.value())
        .collect();
    assert_eq!(held, [child.pid()]);
}

/// Helper: begins to listen when it is told to, without a single packet.
pub fn listen_quietly() {
    wait_for_go();
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    println!("> {}", listener.local_addr().expect("an address").port());
    wait_for_go();
}

#[test]
fn who_begins_to_listen_while_nothing_moves_is_found_with_its_port() {
    let _network = NETWORK.lock();
    let mut child = Helper::start("listen quietly");
    child.says();
    let mut source = wanting(&[Demand::Sockets]);
    for _ in 0..3 {
        source.read();
    }
    child.go();
    let port: i64 = child.says().parse().expect("a port");
    // It sleeps by the time that it is looked for.
    let begin = Instant::now();
    let found = loop {
        std::thread::sleep(Duration::from_millis(700));
        let reading = source.read();
        let row = reading.listeners.iter().find(|row| row.port.value() == Some(port));
        if row.is_some() || begin.elapsed() > Duration::from_secs(20) {
            break row.and_then(|row| row.pid.value());
        }
    };
    assert_eq!(found, Some(child.pid()));
}

/// Whether this kernel says of each call how much went: since Linux 6.3.
pub fn are_datagrams_counted() -> bool {
    let place = b"btf_trace_sock_recv_length";
    let types = || std::fs::read("/sys/kernel/btf/vmlinux").unwrap_or_default();
    INSIDE && rustix::process::geteuid().is_root() && types().windows(place.len()).any(|bytes| bytes == place)
}

/// To the byte, of one that is read before and after and of one that no reading shows.
#[test]
fn bytes_over_udp_are_counted_by_the_kernels_programs() {
    if !are_datagrams_counted() {
        return;
    }
    let _network = NETWORK.lock();
    let mut child = Helper::start("exchange datagrams");
    child.says();
    let mut source = wanting(&[Demand::Sockets, Demand::Datagrams, Demand::Ended]);
    let before = source.read();
    let moved = |in_bytes: Raw, out_bytes: Raw| [in_bytes, out_bytes].map(|raw| raw.value().expect("known"));
    let of = |reading: &Reading, pid| {
        let row = find(reading, pid);
        moved(row.udp_in_bytes, row.udp_out_bytes)
    };
    let own = i64::from(std::process::id());
    assert_eq!(of(&before, own), [0; 2], "who does nothing of the kind is known to have nothing");
    let says = |child: &mut Helper| {
        let said = child.says();
        let (sent, received) = said.split_once(' ').expect("two numbers");
        [received, sent].map(|number| number.parse::<f64>().expect("a number"))
    };
    child.go();
    let truth = says(&mut child);
    let now = source.read();
    for (at, what) in ["udp_in, bytes", "udp_out, bytes"].into_iter().enumerate() {
        agrees(what, truth[at], (of(&now, child.pid())[at] - of(&before, child.pid())[at]) as f64, 0.0);
    }
    // Another comes and goes.
    let mut brief = Helper::start("exchange datagrams");
    brief.says();
    brief.go();
    let truth = says(&mut brief);
    brief.go();
    assert!(brief.child.wait().expect("its end").success());
    let begin = Instant::now();
    let mut told = None;
    while told.is_none() && begin.elapsed() < Duration::from_secs(2) {
        std::thread::sleep(Duration::from_millis(200));
        let last = source.read();
        let ended = last.ended.iter().find(|row| row.pid.value() == Some(brief.pid()));
        told = ended.map(|row| moved(row.udp_in_bytes, row.udp_out_bytes));
    }
    let told = told.expect("its end is told");
    agrees("udp_in of one who came and went, bytes", truth[0], told[0] as f64, 0.0);
    agrees("udp_out of one who came and went, bytes", truth[1], told[1] as f64, 0.0);
}
