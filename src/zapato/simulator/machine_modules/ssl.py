# Stands in for the port's ssl module: the simulator does the handshake, with what the program asks for.
from world import ask

PROTOCOL_TLS_CLIENT = 0
CERT_NONE, CERT_REQUIRED = 0, 2


class SSLContext:
    def __init__(self, protocol):
        self.verify_mode = CERT_REQUIRED
        self.authority = b""

    def load_verify_locations(self, cadata):
        self.authority = bytes(cadata)

    def wrap_socket(self, sock, server_side=False, do_handshake_on_connect=True, server_hostname=None):
        asked = b"%d %d %s\n" % (sock.number, self.verify_mode, (server_hostname or "-").encode())
        ask("tls", asked + self.authority)
        return SSLSocket(sock)


class SSLSocket:
    def __init__(self, sock):
        # What the port takes of the program's heap for it.
        self.held = [bytearray(int(size)) for size in ask("tls_pieces").split()]
        self.sock = sock
        self.number = sock.number
        self.write = sock.write
        self.read = sock.read
        self.readinto = sock.readinto
        self.close = sock.close
