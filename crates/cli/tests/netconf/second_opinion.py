"""An independent NETCONF client against the simulated gateway. Exits with 0 if it finds nothing to object to."""

import socket
import subprocess
import sys
import tempfile
import threading
import time

from ncclient import manager
from ncclient.operations import RPCError
from ncclient.xml_ import to_ele

PROGRAM, PLAN = sys.argv[1:3]
FOLDER = tempfile.mkdtemp()
ACL = "urn:ietf:params:xml:ns:yang:ietf-access-control-list"
FILTER = ("subtree", f'<acls xmlns="{ACL}"/>')


def serve(name, *faults):
    """A gateway at a local socket; each connection is a session of it."""
    path = f"{FOLDER}/{name}.socket"
    listener = socket.socket(socket.AF_UNIX)
    listener.bind(path)
    listener.listen()
    words = [PROGRAM, "simulate", "gateway", "--state", f"{FOLDER}/{name}", "--plan", PLAN]
    words += [word for fault in faults for word in ("--fault", fault)]

    def accept():
        while True:
            connection, _ = listener.accept()
            subprocess.Popen(words, stdin=connection, stdout=connection)
            connection.close()

    threading.Thread(target=accept, daemon=True).start()
    return path


def connect(path):
    return manager.connect_uds(path=path, timeout=20)


def config(action="drop", name="one", more=""):
    return f"""<config xmlns="urn:ietf:params:xml:ns:netconf:base:1.0"><acls xmlns="{ACL}">
      <acl><name>{name}</name><type>ipv4-acl-type</type><aces><ace><name>first</name>
        <matches><ipv4><source-ipv4-network>10.44.80.0/24</source-ipv4-network></ipv4></matches>
        <actions><forwarding>{action}</forwarding><logging>log-syslog</logging></actions></ace></aces></acl>{more}
      <attachment-points><interface><interface-id>core.80</interface-id><ingress><acl-sets>
        <acl-set><name>{name}</name></acl-set></acl-sets></ingress></interface></attachment-points></acls></config>"""


def refused(tag, work):
    try:
        work()
    except RPCError as error:
        assert error.tag == tag, f"{error.tag} and not {tag}: {error}"
        return error
    raise AssertionError(f"not refused: {tag}")


def runs(session):
    return "<name>one</name>" in session.get_config("running", filter=FILTER).data_xml


path = serve("plain")
with connect(path) as one, connect(path) as two:
    for needed in (":candidate", ":confirmed-commit:1.1", ":validate:1.1", ":base:1.1"):
        assert needed in one.server_capabilities or any(
            needed[1:] in capability for capability in one.server_capabilities
        ), needed
    assert not runs(one)
    with one.locked("candidate"):
        held = refused("lock-denied", lambda: two.lock("candidate"))
        assert one.session_id in held.info, held.info
        refused("in-use", lambda: two.edit_config(config(), target="candidate"))
        one.edit_config(config(), target="candidate")
        one.validate("candidate")
        assert not runs(one), "what is edited does not run"
        one.discard_changes()
    refused("operation-failed", lambda: two.unlock("candidate"))
    # A commit for a time, of which the time runs out.
    one.edit_config(config(), target="candidate")
    one.commit(confirmed=True, timeout="1")
    assert runs(two)
    refused("invalid-value", lambda: two.commit())
    time.sleep(1.5)
    assert not runs(two), "its time is over"
    # One that is confirmed by another session.
    one.edit_config(config(), target="candidate")
    one.commit(confirmed=True, timeout="60", persist="by-name")
    refused("invalid-value", lambda: two.commit(persist_id="other"))
    two.commit(persist_id="by-name")
    time.sleep(0.1)
    assert runs(one)
    # Values and references that are none.
    refused("invalid-value", lambda: (one.edit_config(config("perhaps"), target="candidate"), one.validate("candidate")))
    one.discard_changes()
    wrong = config(name="two").replace("core.80", "nowhere")
    refused("data-missing", lambda: (one.edit_config(wrong, target="candidate"), one.commit()))
    one.discard_changes()
    refused("operation-not-supported", lambda: one.edit_config(config(), target="running"))
    refused("operation-not-supported", lambda: one.dispatch(to_ele("<no-such-thing/>")))
    again = config().replace("<acl>", '<acl xmlns:nc="urn:ietf:params:xml:ns:netconf:base:1.0" nc:operation="create">')
    refused("data-exists", lambda: one.edit_config(again, target="candidate"))
    gone = config(name="nobody").replace("<acl>", '<acl xmlns:nc="urn:ietf:params:xml:ns:netconf:base:1.0" nc:operation="delete">')
    refused("data-missing", lambda: one.edit_config(gone, target="candidate"))
    # Cancelled, by its id and by its own session.
    one.edit_config(config("accept"), target="candidate")
    one.commit(confirmed=True, timeout="60", persist="again")
    assert "<forwarding>accept</forwarding>" in two.get_config("running").data_xml
    refused("invalid-value", lambda: two.cancel_commit())
    two.cancel_commit(persist_id="again")
    assert "<forwarding>drop</forwarding>" in two.get_config("running").data_xml
    # What was counted is read back.
    sent = subprocess.run([PROGRAM, "simulate", "packet", "--state", f"{FOLDER}/plain", "--enters", "core.80",
                           "10.44.80.7", "10.44.60.10", "tcp/443"], stdout=subprocess.PIPE)
    assert sent.returncode == 1, sent.stdout
    assert "<matched-packets>1</matched-packets>" in two.get(filter=FILTER).data_xml

# A session that is lost takes its lock, its edits and its commit with it.
three = connect(path)
three.lock("candidate")
three.edit_config(config("accept"), target="candidate")
three.commit(confirmed=True, timeout="60")
three._session._socket.close() if hasattr(three._session, "_socket") else three._session.close()
three._session.close()
time.sleep(0.5)
with connect(path) as four:
    four.lock("candidate")
    assert "<forwarding>drop</forwarding>" in four.get_config("running").data_xml, "it went with its session"
    assert four.get_config("candidate").data_xml.split("<data")[1] == four.get_config("running").data_xml.split("<data")[1]

with connect(serve("locked", "locked")) as five:
    assert "4294967295" in refused("lock-denied", lambda: five.lock("candidate")).info
with connect(serve("refuses", "refuses")) as six:
    refused("invalid-value", lambda: six.validate("candidate"))
print("nothing to object to")
