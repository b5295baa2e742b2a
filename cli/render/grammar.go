package render

// grammars is how values are written, for the printed reference.
const grammars = `
## How values are written

### Ports
` + "`[ADDRESS:]HOST -> CONTAINER[/PROTOCOL]`" +
	`: a port of the host, and the port of the container that it leads to.

| written | means |
| --- | --- |
| ` + "`8710 -> 80`" + ` | tcp, on all addresses of the host |
| ` + "`localhost:8710 -> 80`" + ` | reached from the machine itself only |
| ` + "`192.0.2.14:8710 -> 80`, `[2001:db8::14]:8710 -> 80`" + ` | on one address |
| ` + "`8710-8712 -> 80-82`" + ` | a range onto a range of the same length |
| ` + "`8710 -> 80/udp`, `8710 -> 80/tcp+udp`, `8710 -> 80/sctp`" + ` | another protocol; tcp+udp is both |
| ` + "`any -> 80`" + ` | a port that the engine picks |

### Mounts
` + "`SOURCE -> TARGET[, OPTION…]`" + `. TARGET is the path inside.

| source | what it is |
| --- | --- |
| ` + "`/srv/data`, `./pages`" + ` | a folder or file of the host; ` + "`./`" + ` is the stack's own folder |
| ` + "`volume NAME`" + ` | a volume of the engine, declared in ` + "`[volume.NAME]`" + ` |
| ` + "`memory`, `memory 64MiB`" + ` | a file system in memory |
| ` + "`engine`" + ` | the engine's own socket |

| option | goes with | means |
| --- | --- | --- |
| ` + "`read-only`" + ` | all | the service cannot write there |
| ` + "`create`, `create 0750`" +
	` | paths | the deploy makes a missing folder, with the service's owner and that mode |
| ` + "`shared`" + ` | paths | what is mounted below it later is seen on both sides |
| ` + "`start-empty`" + ` | volumes | a new volume is not filled from the image |

A path with a comma or an arrow in it stands in single quotes: ` + "`'/srv/a, b' -> /data`" + `.

### Sizes, times and others
| value | written |
| --- | --- |
| size | a number with B, kB, MB, GB (powers of 1000) or KiB, MiB, GiB (powers of 1024): ` + "`512MiB`" + ` |
| time | numbers with ms, s, m, h: ` + "`90s`, `1m 30s`" + ` |
| log limit | FILES x SIZE: ` + "`5 x 10MB`" + `; or ` + "`none`" + ` |
| restart | ` + "`no`, `on-failure`, `on-failure 3`, `unless-stopped`, `always`" + ` |
| identity | ` + "`ACCOUNT`, `ACCOUNT:GROUP` or `UID:GID`" + ` |
| page, http | ` + "`PORT[/path]`, with `https `" + ` in front for TLS |
| reference | ` + "`${NAME}`" + `; ` + "`${$}`" + ` is a plain dollar sign |

### Where the engine is
` + "`engine`" + ` of a host is ` +
	"`unix:///PATH`, `tcp://HOST:PORT` or `ssh://[USER@]HOST[:PORT][/SOCKET]`" +
	`. Without it lantern goes by the variable ` + "`DOCKER_HOST`" + `, then by the system's usual socket
(` + "`/var/run/docker.sock`" + `), then by your own (` +
	"`$XDG_RUNTIME_DIR/docker.sock`, `…/podman/podman.sock`" + `).
`
