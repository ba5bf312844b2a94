# Stands in for the port's vfs module where a file system is on blocks: the program's own driver moves them, the simulator knows FAT.
import os

from world import ask, fetch, pipe

mount = os.mount
umount = os.umount
_FAT = 600  # bytes that the ports' own takes while it is mounted, and as many an open file (ff.h: FATFS, FIL, one block each)


class VfsFat:
    count = 0

    def __init__(self, blocks):
        VfsFat.count += 1
        self.head = b"%d " % VfsFat.count
        self.blocks = blocks
        self.held = bytearray(_FAT)
        self.row = memoryview(self.held)[:512]
        self.do("fat_mount")

    def do(self, name, data=""):
        answer = fetch(name, self.head + (data if isinstance(data, bytes) else data.encode()))
        while answer[:1] != "=":
            number = int(answer[1:])
            try:
                if answer[0] == "r":
                    self.blocks.readblocks(number, self.row)
                    answer = fetch("fat_go", bytes(self.row))
                else:
                    pipe.readinto(self.row)
                    self.blocks.writeblocks(number, self.row)
                    answer = fetch("fat_go")
            except OSError:
                ask("fat_stop")
                raise
        return answer[1:]

    def mount(self, readonly, make):
        pass

    def umount(self):
        pass

    def open(self, path, mode):
        return _File(self, path, mode)

    def ilistdir(self, path):
        size = int(self.do("fat_names"))
        for line in pipe.read(size).decode().split("\n"):
            if line:
                name, size = line.split()
                yield name, 0x8000, 0, int(size)

    def stat(self, path):
        return (0x8000, 0, 0, 0, 0, 0, int(self.do("fat_size", path)), 0, 0, 0)

    def remove(self, path):
        self.do("fat_remove", path)


class _File:
    def __init__(self, volume, path, mode):
        if mode not in ("ab", "rb"):
            raise OSError(22)
        self.volume, self.path, self.held, self.place = volume, path, bytearray(_FAT), 0

    def __enter__(self):
        return self

    def __exit__(self, *given):
        pass

    def seek(self, place):
        self.place = place

    def read(self, size):
        got = int(self.volume.do("fat_read", "%d %d %s" % (self.place, size, self.path)))
        self.place += got
        return pipe.read(got)

    def write(self, data):
        self.volume.do("fat_append", self.path.encode() + b"\n" + data)
