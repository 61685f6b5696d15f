#!/usr/bin/python3
"""Reads a pooled store of Keen Lodge (format 3) in a folder: a second reader, written from store-format.md and nothing else.

    store-reader.py FOLDER                      lists the images
    store-reader.py FOLDER IMAGE DISK OUT       writes a disk of an image as a raw file
    store-reader.py FOLDER IMAGE list OUT       writes the list of an image of files, "content" what they hold, one after the other

It needs Debian's python3-zstandard and python3-cryptography. A sealed store's passphrase is read from the environment variable
KEENLODGE_PASSPHRASE. Every piece is compared with its name, by a BLAKE3 in plain Python, which takes its time: about 300 KiB a second.
"""
import base64
import hashlib
import hmac
import json
import os
import struct
import sys

import zstandard
from cryptography.hazmat.primitives.ciphers.aead import AESGCM, ChaCha20Poly1305
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.kdf.hkdf import HKDF

UNIT, LEAF_UNITS, FANOUT, ZERO = 4096, 1024, 256, bytes(32)

# BLAKE3 (https://github.com/BLAKE3-team/BLAKE3-specs), section 2.

IV = (0x6A09E667, 0xBB67AE85, 0x3C6EF372, 0xA54FF53A, 0x510E527F, 0x9B05688C, 0x1F83D9AB, 0x5BE0CD19)
ORDER = (2, 6, 3, 10, 7, 0, 4, 13, 1, 11, 12, 5, 9, 14, 15, 8)
ROUNDS = [tuple(range(16))]
for _ in range(6):
    ROUNDS.append(tuple(ROUNDS[-1][i] for i in ORDER))
MIXES = ((0, 4, 8, 12), (1, 5, 9, 13), (2, 6, 10, 14), (3, 7, 11, 15), (0, 5, 10, 15), (1, 6, 11, 12), (2, 7, 8, 13), (3, 4, 9, 14))
START, END, PARENT, ROOT, KEYED, CONTEXT, MATERIAL = 1, 2, 4, 8, 16, 32, 64


def compress(cv, block, counter, length, flags):
    """Section 2.2: the first eight words of the compression function's output."""
    m = struct.unpack("<16I", block)
    v = list(cv) + list(IV[:4]) + [counter & 0xFFFFFFFF, counter >> 32, length, flags]
    for order in ROUNDS:
        for n, (a, b, c, d) in enumerate(MIXES):
            va = (v[a] + v[b] + m[order[2 * n]]) & 0xFFFFFFFF
            x = v[d] ^ va
            vd = (x >> 16 | x << 16) & 0xFFFFFFFF
            vc = (v[c] + vd) & 0xFFFFFFFF
            x = v[b] ^ vc
            vb = (x >> 12 | x << 20) & 0xFFFFFFFF
            va = (va + vb + m[order[2 * n + 1]]) & 0xFFFFFFFF
            x = vd ^ va
            vd = (x >> 8 | x << 24) & 0xFFFFFFFF
            vc = (vc + vd) & 0xFFFFFFFF
            x = vb ^ vc
            v[a], v[b], v[c], v[d] = va, (x >> 7 | x << 25) & 0xFFFFFFFF, vc, vd
    return tuple(v[i] ^ v[i + 8] for i in range(8))


def chunk_node(key, data, index, flags):
    """The last compression of a chunk of up to 1024 bytes, not done yet."""
    cv = key
    blocks = [data[i : i + 64] for i in range(0, len(data), 64)] or [b""]
    for i, block in enumerate(blocks):
        f = flags | (START if i == 0 else 0) | (END if i == len(blocks) - 1 else 0)
        node = (cv, block.ljust(64, b"\0"), index, len(block), f)
        if i < len(blocks) - 1:
            cv = compress(*node)
    return node


def tree_node(key, data, index, flags):
    if len(data) <= 1024:
        return chunk_node(key, data, index, flags)
    left = 1024
    while left * 2 < len(data):
        left *= 2
    a = compress(*tree_node(key, data[:left], index, flags))
    b = compress(*tree_node(key, data[left:], index + left // 1024, flags))
    return (key, struct.pack("<16I", *a, *b), 0, 64, flags | PARENT)


def blake3(data, key=IV, flags=0):
    cv, block, counter, length, f = tree_node(key, data, 0, flags)
    return struct.pack("<8I", *compress(cv, block, counter, length, f | ROOT))


def keyed(key, data):
    return blake3(data, struct.unpack("<8I", key), KEYED)


def derive(context, key):
    """Section 2.3, the mode for deriving keys."""
    return blake3(key, struct.unpack("<8I", blake3(context.encode(), IV, CONTEXT)), MATERIAL)


# age (https://age-encryption.org/v1), as far as files for a passphrase go.


def unbase64(text):
    return base64.b64decode(text + "=" * (-len(text) % 4))


def hkdf(key, salt, info):
    return HKDF(SHA256(), 32, salt, info).derive(key)


def open_age(armored, passphrase):
    body = base64.b64decode("".join(line for line in armored.split("\n") if not line.startswith("-----")))
    head, rest = body.split(b"\n---", 1)
    mac, payload = rest.split(b"\n", 1)
    lines = head.decode().split("\n")
    words = lines[1].split(" ")
    if words[:2] != ["->", "scrypt"]:
        return None
    salt, work = unbase64(words[2]), int(words[3])
    wrap = hashlib.scrypt(passphrase.encode(), salt=b"age-encryption.org/v1/scrypt" + salt, n=1 << work, r=8, p=1, maxmem=1 << 30, dklen=32)
    file_key = ChaCha20Poly1305(wrap).decrypt(bytes(12), unbase64(lines[2]), None)
    if not hmac.compare_digest(hmac.digest(hkdf(file_key, None, b"header"), head + b"\n---", "sha256"), unbase64(mac.decode().strip())):
        raise ValueError("the key's head was changed")
    stream = ChaCha20Poly1305(hkdf(file_key, payload[:16], b"payload"))
    return stream.decrypt(bytes(11) + b"\1", payload[16:], None)  # one part: a secret is short


def expand(stored, codec):
    if codec == 0:
        return stored
    if codec != 1:
        raise ValueError(f"codec {codec} is not known")
    return zstandard.ZstdDecompressor().decompress(stored, max_output_size=1 << 30)


class Store:
    def __init__(self, folder, passphrase):
        self.folder, self.objects, self.packs, self.names = folder, None, None, None
        header = json.loads(self.read("store.json"))
        digest = header["digest"]
        plain = json.dumps({**header, "digest": ""}, separators=(",", ":"), ensure_ascii=False)
        if header["format"] != 3 or header["layout"] != "pooled" or blake3(plain.encode()).hex() != digest:
            raise ValueError("store.json is damaged, or of another format")
        if header["sealed"]:
            self.unseal(header["check"], passphrase)
        self.where = {}  # name of a piece: its pack, offset, stored length, codec, begin in the frame, length
        self.frame = (None, b"")
        for name in self.list("index"):
            self.read_index(self.object(f"index/{name}", "x"))
        known = {place[0] for place in self.where.values()}
        for folder in self.list("pack"):
            for name in self.list("pack", folder):
                if name not in known:  # no index names it: it describes itself
                    self.read_pack(name)

    def list(self, *path):
        path = os.path.join(self.folder, *path)
        return sorted(n for n in os.listdir(path) if not n.startswith(".")) if os.path.isdir(path) else []

    def read(self, name, offset=0, length=-1):
        with open(os.path.join(self.folder, name), "rb") as f:
            f.seek(offset)
            return f.read(length)

    def unseal(self, check, passphrase):
        for name in self.list("key"):
            key = json.loads(self.object(f"key/{name}", "s"))
            secret = open_age(key["age"], passphrase) if key["kind"] == "passphrase" else None
            if secret and derive("keenlodge store 3 check", secret).hex() == check:
                self.names, self.packs = derive("keenlodge store 3 names", secret), derive("keenlodge store 3 packs", secret)
                self.objects = AESGCM(derive("keenlodge store 3 objects", secret))
                return
        raise ValueError("the passphrase opens none of the store's keys")

    def object(self, name, kind):
        body = self.read(name)
        head, stored, digest = body[:13], body[13:-32], body[-32:]
        if head[:7] != b"KLOBJ\0\3" or chr(head[7]) != kind or blake3(body[:-32] + name.encode()) != digest:
            raise ValueError(f"{name} is damaged")
        if head[8] & 0x80:
            stored = self.objects.decrypt(stored[:12], stored[12:], head + name.encode())
        return expand(stored, head[8] & 0x7F)

    def name_of(self, piece):
        return keyed(self.names, piece) if self.names else blake3(piece)

    def open_part(self, pack, offset, part):
        if not self.packs:
            return part
        return AESGCM(keyed(self.packs, bytes.fromhex(pack))).decrypt(bytes(8) + struct.pack(">I", offset), part, None)

    def read_index(self, payload):
        while payload:
            pack, _, length = struct.unpack(">16sII", payload[:24])
            self.read_directory(pack.hex(), payload[24 : 24 + length])
            payload = payload[24 + length :]

    def read_pack(self, pack):
        body = self.read(f"pack/{pack[:2]}/{pack}")
        magic, length, digest = struct.unpack(">8sI32s", body[-44:])
        offset = len(body) - 44 - length
        lies = body[offset:-44]
        if magic != b"KLPACK\0\3" or self.name_of(bytes.fromhex(pack) + lies) != digest:
            raise ValueError(f"pack {pack} is damaged")
        self.read_directory(pack, self.open_part(pack, offset, lies))

    def read_directory(self, pack, directory):
        at, offset = 0, 0
        while at < len(directory):
            stored, codec, pieces = struct.unpack_from(">IBH", directory, at)
            at, begin = at + 7, 0
            for _ in range(pieces):
                name, length = struct.unpack_from(">32sI", directory, at)
                self.where[name] = (pack, offset, stored, codec, begin, length)
                at, begin = at + 36, begin + length
            offset += stored

    def piece(self, name):
        pack, offset, stored, codec, begin, length = self.where[name]
        if self.frame[0] != (pack, offset):
            part = self.read(f"pack/{pack[:2]}/{pack}", offset, stored)
            self.frame = ((pack, offset), expand(self.open_part(pack, offset, part), codec))
        piece = self.frame[1][begin : begin + length]
        if self.name_of(piece) != name:
            raise ValueError(f"piece {name.hex()} is damaged")
        return piece

    def ranges(self, name, height, first):
        """The ranges below a map block that begins at a unit of the disk: unit, number of units, first unit in the piece, piece."""
        if name == ZERO:
            return
        body = self.piece(name)
        if height == 1:
            for at in range(0, len(body), 38):
                begin, n, part, piece = struct.unpack_from(">HHH32s", body, at)
                yield first + begin, n, part, piece
            return
        for i in range(len(body) // 32):
            yield from self.ranges(body[32 * i : 32 * i + 32], height - 1, first + i * LEAF_UNITS * FANOUT ** (height - 2))

    def strands(self, name, height):
        """The pieces of a rope, in order."""
        body = self.piece(name)
        if height == 1:
            for at in range(0, len(body), 36):
                length, piece = struct.unpack_from(">I32s", body, at)
                part = self.piece(piece)
                if len(part) != length:
                    raise ValueError(f"piece {piece.hex()} has {len(part)} bytes, not {length}")
                yield part
            return
        for at in range(0, len(body), 40):
            yield from self.strands(body[at + 8 : at + 40], height - 1)

    def write_stream(self, stream, path):
        with open(path, "wb") as out:
            if stream.get("rope"):
                for part in self.strands(bytes.fromhex(stream["rope"]), stream["height"]):
                    out.write(part)
            if out.tell() != stream["size"]:
                raise ValueError(f"the stream has {out.tell()} bytes, not {stream['size']}")

    def write_disk(self, disk, path):
        leaves = -(-disk["size"] // (UNIT * LEAF_UNITS))
        height = 2
        while FANOUT ** (height - 1) < leaves:
            height += 1
        with open(path, "wb") as out:
            out.truncate(disk["size"])
            for at, n, part, name in self.ranges(bytes.fromhex(disk.get("map", "")) or ZERO, height, 0):
                out.seek(at * UNIT)
                out.write(self.piece(name)[part * UNIT : (part + n) * UNIT][: disk["size"] - at * UNIT])


def main(folder, image=None, target=None, out=None):
    store = Store(folder, os.environ.get("KEENLODGE_PASSPHRASE", ""))
    if image is None:
        for name in store.list("image"):
            m = json.loads(store.object(f"image/{name}", "i"))
            print(name, m["machine"], m["taken"], m["capture"], *(f'{d["target"]}:{d["size"]}' for d in m["disks"] or []), *(f"files:{m['files']['entries']}" for _ in [0] if "files" in m))
        return
    m = json.loads(store.object(f"image/{image}", "i"))
    if "files" in m:
        store.write_stream(m["files"].get(target) or {"size": 0}, out)
        return
    store.write_disk(next(d for d in m["disks"] if d["target"] == target), out)


if __name__ == "__main__":
    main(*sys.argv[1:])
