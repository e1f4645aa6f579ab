#!/usr/bin/env python3
# Makes the images of this folder by hand (struct, from avb_vbmeta_image.h and
# the descriptors' headers), signed by openssl; and prints what veritysetup says
# of the data that the test makes. Needs openssl and veritysetup.
import hashlib, os, struct, subprocess, tempfile

here = os.path.dirname(os.path.abspath(__file__))
tmp = tempfile.mkdtemp()

def run(*args):
    return subprocess.check_output(args, stderr=subprocess.DEVNULL)

def descriptor(tag, body):
    body += b'\0' * (-len(body) % 8)
    return struct.pack('>QQ', tag, len(body)) + body

prop = descriptor(0, struct.pack('>QQ', 3, 5) + b'key\0value\0')
hashd = descriptor(2, struct.pack('>Q32sIIII60s', 6, b'sha256', 4, 2, 32, 0, b'') + b'boot' + b'\1\2' + hashlib.sha256(b'\1\2kernel').digest())
chain = descriptor(4, struct.pack('>IIII60s', 2, 13, 4, 0, b'') + b'vbmeta_system' + b'KEY!')
strange = descriptor(99, b'whatever')

for number, bits, algo in [(1, 2048, 'sha256'), (5, 4096, 'sha512'), (6, 8192, 'sha512')]:
    key = os.path.join(tmp, 'key')
    run('openssl', 'genpkey', '-algorithm', 'RSA', '-pkeyopt', 'rsa_keygen_bits:%d' % bits, '-out', key)
    n = int(run('openssl', 'rsa', '-in', key, '-noout', '-modulus').decode().split('=')[1], 16)
    size = bits // 8
    pub = struct.pack('>II', bits, -pow(n, -1, 1 << 32) % (1 << 32)) + n.to_bytes(size, 'big') + pow(1 << bits, 2, n).to_bytes(size, 'big')
    descriptors = prop + hashd + chain + strange
    aux = descriptors + pub
    aux += b'\0' * (-len(aux) % 64)
    digest = 32 if algo == 'sha256' else 64
    auth = digest + size
    auth += -auth % 64
    header = struct.pack('>4sIIQQIQQQQQQQQQQQII48s80s', b'AVB0', 1, 0, auth, len(aux), number, 0, digest, digest, size,
        len(descriptors), len(pub), 0, 0, 0, len(descriptors), 7, 2, 1, b'by hand', b'')
    assert len(header) == 256
    signed = os.path.join(tmp, 'signed')
    open(signed, 'wb').write(header + aux)
    sig = run('openssl', 'dgst', '-' + algo, '-sign', key, signed)
    block = hashlib.new(algo, header + aux).digest() + sig
    open(os.path.join(here, 'rsa%d.img' % bits), 'wb').write(header + block + b'\0' * (auth - len(block)) + aux)

for blocks, algo, salt in [(1, 'sha256', '00ff'), (128, 'sha256', '-'), (129, 'sha256', 'aabbccdd'), (20000, 'sha256', '5a' * 32), (300, 'sha512', '0102')]:
    data, tree = os.path.join(tmp, 'data'), os.path.join(tmp, 'tree')
    with open(data, 'wb') as f:
        for i in range(blocks):
            f.write(struct.pack('<I', i) * 1024)
    open(tree, 'wb').close()
    root = os.path.join(tmp, 'root')
    run('veritysetup', 'format', '--no-superblock', '--hash', algo, '--salt', salt, '--root-hash-file', root, data, tree)
    b = open(tree, 'rb').read()
    print('{%d, "%s", "%s", "%s", "%s"},' % (blocks, algo, salt.strip('-'), open(root).read().strip(), hashlib.sha256(b).hexdigest()), len(b))
