#!/usr/bin/python3
"""The tool on three hosts, which are network namespaces of this machine: one is slow, and in a second run one is killed.

tests/hosts.py [BUILD]        as root; needs iproute2 and what the tests need. Leaves nothing behind.

Each host has an address, a name and a network of its own; MPI starts its helpers through an agent that enters the host
where it would log in to another machine. Bytes are compared with those of one process.
"""
import os
import re
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
import time

SOURCE = os.path.dirname(os.path.dirname(os.path.abspath(__file__)))
BUILD = os.path.abspath(sys.argv[1] if len(sys.argv) > 1 else os.path.join(SOURCE, "build"))
SHEET = os.path.join(SOURCE, "demo", "data", "ground-2022", "sheet_a1.tif")
HOSTS = ["kat1", "kat2", "kat3"]
BRIDGE = "katbridge"
WORDS = ["reproject", SHEET, "--crs", "EPSG:32724", "--cell", "0.08", "--threads", "1", "--overwrite"]

# Enters the host; the host's name decides which processes MPI takes for neighbours.
AGENT = """#!/bin/sh
host=$(echo "$1" | sed 's/10.77.0./kat/')
shift
exec ip netns exec "$host" unshare --uts --mount sh -c "hostname $host; [ $host = kat3 ] && mount -t tmpfs none {folder}/apart; $*"
"""


def run(*words):
    subprocess.run(words, check=True)


def put_up():
    run("ip", "link", "add", BRIDGE, "type", "bridge")
    run("ip", "link", "set", BRIDGE, "up")
    for n, host in enumerate(HOSTS, 1):
        run("ip", "netns", "add", host)
        run("ip", "link", "add", f"{host}b", "type", "veth", "peer", "name", "eth0", "netns", host)
        run("ip", "link", "set", f"{host}b", "master", BRIDGE, "up")
        run("ip", "-n", host, "addr", "add", f"10.77.0.{n}/24", "dev", "eth0")
        run("ip", "-n", host, "link", "set", "eth0", "up")
        run("ip", "-n", host, "link", "set", "lo", "up")


def take_down():
    for host in HOSTS:
        subprocess.run(["ip", "netns", "del", host], stderr=subprocess.DEVNULL)
    subprocess.run(["ip", "link", "del", BRIDGE], stderr=subprocess.DEVNULL)


def of_host(host):
    """The processes of the tool there."""
    there = subprocess.run(["ip", "netns", "pids", host], capture_output=True, text=True).stdout.split()
    tools = []
    for pid in map(int, there):
        try:
            if os.readlink(f"/proc/{pid}/exe").endswith("katoptra-mpi"):
                tools.append(pid)
        except OSError:
            pass
    return tools


def job(folder, out, *more, words=WORDS, temporary="/tmp"):
    agent = os.path.join(folder, "agent")
    with open(agent, "w") as f:
        f.write(AGENT.replace("{folder}", folder))
    os.chmod(agent, 0o755)
    hosts = ",".join(f"10.77.0.{n}:1" for n in range(1, len(HOSTS) + 1))
    mpirun = ["mpirun", "--allow-run-as-root", "--quiet", "--bind-to", "none", "--mca", "plm_rsh_agent", agent, "--mca", "btl", "tcp,self",
              "--mca", "btl_tcp_if_include", "eth0", "--mca", "oob_tcp_if_include", "eth0", "--host", hosts, "-x", "KATOPTRA_TELL_RANKS", "-x", "TMPDIR",
              os.path.join(BUILD, "bin", "katoptra-mpi"), *words, *more, "-o", out]
    inside = ["ip", "netns", "exec", HOSTS[0], "unshare", "--uts", "sh", "-c", f'hostname {HOSTS[0]}; exec "$@"', "sh", *mpirun]
    return subprocess.Popen(inside, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, cwd=folder, env=dict(os.environ, KATOPTRA_TELL_RANKS="1", TMPDIR=temporary))


def hamper(host, until):
    """Stands still four fifths of the time."""
    while not until.is_set():
        for what, pause in ((signal.SIGSTOP, 0.4), (signal.SIGCONT, 0.1)):
            for pid in of_host(host):
                try:
                    os.kill(pid, what)
                except ProcessLookupError:
                    pass
            time.sleep(pause)


def whole(folder):
    """The sheets that have their final name, and when they got it. One in which there is nothing goes again at once."""
    found = {}
    for name in os.listdir(folder) if os.path.isdir(folder) else []:
        if name.endswith(".tif") and not name.startswith("."):
            try:
                found[name] = os.stat(os.path.join(folder, name)).st_mtime_ns
            except FileNotFoundError:
                pass
    return found


def on_another_disk(folder, alone):
    """The third host has another disk under the name of the folder: what it makes travels, and is the first's to write."""
    done = job(folder, os.path.join(folder, "apart", "out.tif"))
    _, told = done.communicate(timeout=600)
    assert done.returncode == 0, told
    assert "left" not in told, told
    run("cmp", alone, os.path.join(folder, "apart", "out.tif"))
    print(f"one of three hosts does not reach the result: the same bytes; {told.strip()}")


def flow(folder, surface):
    """Planes of a flow lie in temporary files: all see them and the third host is slow, or they lie on a disk that it does not see."""
    words = ["flow", surface, "--as", "cells", "--threads", "1", "--overwrite"]
    run(os.path.join(BUILD, "bin", "katoptra"), *words, "--quiet", "-o", os.path.join(folder, "flow_alone.tif"))
    for temporary, slow in (("/tmp", False), ("/tmp", True), (os.path.join(folder, "apart"), False)):
        ended = threading.Event()
        if slow:
            threading.Thread(target=hamper, args=(HOSTS[2], ended), daemon=True).start()
        begin = time.time()
        result = os.path.join(folder, f"flow_{len(os.listdir(folder))}.tif")
        done = job(folder, result, words=words, temporary=temporary)
        while not os.path.exists(result) and done.poll() is None:
            time.sleep(0.05)
        whole_after = time.time() - begin
        _, told = done.communicate(timeout=600)
        ended.set()
        assert done.returncode == 0, told
        assert slow or "left" not in told, told  # who is far behind finds files gone
        run("cmp", os.path.join(folder, "flow_alone.tif"), result)
        assert not any(name.startswith("katoptra-") for name in os.listdir(os.path.join(folder, "apart")))
        what = "the third slow" if slow else f"temporary files in {temporary}"
        print(f"a flow on three hosts, {what}: there after {whole_after:.1f} s, ended after {time.time() - begin:.1f}, the same bytes; {told.strip()}")


def in_sheets(folder):
    """One killed in the middle; a run again goes on with what was whole. Each host writes the sheets it made."""
    sheets = ["--sheets", "50m"]
    run(os.path.join(BUILD, "bin", "katoptra"), *WORDS, *sheets, "--quiet", "-o", os.path.join(folder, "one", "g.tif"))
    killed = job(folder, "many/g.tif", *sheets)
    many = os.path.join(folder, "many")
    for _ in range(2000):
        if len(whole(many)) >= 6:
            break
        time.sleep(0.02)
    for pid in of_host(HOSTS[1]):
        os.kill(pid, signal.SIGKILL)
    _, told = killed.communicate(timeout=120)
    assert killed.returncode != 0, told
    before = whole(many)
    assert len(before) >= 6 and not os.path.exists(os.path.join(many, "g.sheets.geojson"))
    again = job(folder, "many/g.tif", *sheets)
    said, told = again.communicate(timeout=600)
    assert again.returncode == 0, told
    after = whole(many)
    kept = sum(after.get(name) == when for name, when in before.items())
    # One a process may have had its name and no record yet.
    assert kept >= len(before) - len(HOSTS), (kept, len(before))
    for name in os.listdir(os.path.join(folder, "one")):
        if name.endswith((".tif", ".csv", ".geojson")):
            run("cmp", os.path.join(folder, "one", name), os.path.join(many, name))
    print(f"{len(after)} sheets, one of three hosts killed after {len(before)}: {kept} kept, the others made, the same bytes; {told.strip()}")


def main():
    folder = tempfile.mkdtemp(prefix="katoptra-hosts-")
    ended = threading.Event()
    os.mkdir(os.path.join(folder, "apart"))
    take_down()
    try:
        put_up()
        alone = os.path.join(folder, "alone.tif")
        begin = time.time()
        run(os.path.join(BUILD, "bin", "katoptra"), *WORDS, "--quiet", "-o", alone)
        print(f"one process, one thread: {time.time() - begin:.1f} s")
        threading.Thread(target=hamper, args=(HOSTS[2], ended), daemon=True).start()
        begin = time.time()
        slow = job(folder, "slow.tif")
        _, told = slow.communicate(timeout=600)
        assert slow.returncode == 0, told
        shared = re.search(r"(\d+) results made by the first, (\d+) by others", told)
        assert shared and int(shared[2]) > 0, told
        run("cmp", alone, os.path.join(folder, "slow.tif"))
        print(f"three hosts, the third slow: {time.time() - begin:.1f} s, the same bytes; {told.strip()}")
        ended.set()
        killed = job(folder, "killed.tif")
        for _ in range(400):
            if of_host(HOSTS[1]) and any("killed" in name for name in os.listdir(folder)):
                break
            time.sleep(0.05)
        for pid in of_host(HOSTS[1]):
            os.kill(pid, signal.SIGKILL)
        _, told = killed.communicate(timeout=120)
        assert killed.returncode != 0, told
        assert not os.path.exists(os.path.join(folder, "killed.tif"))
        print("a process of the second killed: the job ended, and no file has its name")
        again = job(folder, "killed.tif")
        _, told = again.communicate(timeout=600)
        assert again.returncode == 0, told
        run("cmp", alone, os.path.join(folder, "killed.tif"))
        print("again: the same bytes")
        on_another_disk(folder, alone)
        flow(folder, alone)
        in_sheets(folder)
    finally:
        ended.set()
        take_down()
        shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    main()
