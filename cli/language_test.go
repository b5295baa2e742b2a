//go:build linux

package cli_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/secret"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/engine/enginetest"
)

// The lab of TestWholeLanguage: together with that of TestSettings it uses every key. Words in capitals are
// filled in.
const (
	wholeLab = `lab = "skerry-light"
about = "Two stacks that share a causeway"
timezone = "Pacific/Apia"
owner = "1:1"

[let]
kept = "${folder.data}/kept/deep"

[folder]
data = "/nowhere"

[host.lamp-room]
engine = "ADDRESS"
address = "127.0.0.1"
timezone = "Atlantic/Stanley"
owner = "1311:1400"
folder.data = "DATA"
reserved-ports = ["22/tcp", "VANE/tcp for mast/vane"]

[network.causeway]
subnet = "198.19.SUBNET.0/26"
internal = true

[network.pier]
existing = true
engine-name = "OLD.pier"

[default]
restart = "no"
log-limit = "2 x 1MB"
memory = "96MiB"
cpus = 0.75
stop-within = "2s"
fetch = "if-absent"
ready-within = "20s"

[check]
image-absent = "warning"

[accept]
safety-host-network = "the beacon has to be seen by the whole house"
`
	wholeMast = `about = "The mast"
host = "${house}"
timezone = "${zone}"
owner = "1312:1400"
networks = ["causeway"]
accept = { "safety-engine engine" = "it looks after the others" }

[let]
house = "lamp-room"
zone = "Atlantic/Faroe"
token = { env-file = "${stack.name}.env", key = "MAST_TOKEN" }

[volume.readings]
driver = "local"
labels = { "example.skerry.room" = "lamp" }

[volume.scratch]
options = { type = "tmpfs", device = "tmpfs" }

[volume.old]
existing = true
engine-name = "OLD.readings"

[service.vane]
about = "Which way it blows"
image = "registry.skerry.example/probe:1"
ports = ["localhost:VANE -> 8080"]
page = "8080/"
ready = { http = "8080/", status = "200", within = "15s" }
run-as = "owner"
owner-variables = ["${who}_UID", "VANE_GID"]
mounts = [
  "${kept} -> /kept, create 0700",
  "volume readings -> /readings",
  "volume scratch -> /scratch, start-empty",
  "volume old -> /old, read-only",
  "memory 16MiB -> /tmp",
  "engine -> /run/engine.sock, read-only",
  "'DATA/a, b' -> /commas, read-only",
]
aliases = ["wind"]
networks = ["causeway", "pier"]
env-files = ["${stack.name}.env"]
secret-variables = ["STATION"]
env.STORE_URL = "store://${token}@store.tide-log:8080"
env.ZONE_TOO = "${timezone}"
env.MY_PORT = "${service.vane.port.8080}"
env.PROBE_NAMES = "vane wind vane.mast store.tide-log"
env.PROBE_FILES = "/proc/self/mounts /proc/self/ns/net /commas"
env.PROBE_WRITE = "/kept /tmp"
overlap = true
accept = { restart-never = "somebody looks at it every day" }

[service.import]
image = "registry.skerry.example/probe:job"

[service.cups]
image = "registry.skerry.example/probe:2"
shares-network-with = "vane"
after = ["import done", "vane"]
mounts = ["memory -> /kept"]
env.PROBE_PAGE = "8081"
env.PROBE_FILES = "/proc/self/ns/net"
ready = { image = true, within = "15s" }

[service.beacon]
image = "registry.skerry.example/probe:1"
network = "host"
listens = ["127.0.0.1:BEACON"]
page = "BEACON/"
ready = { tcp = BEACON }
env = { PROBE_PAGE = "BEACON", PROBE_FILES = "/proc/self/ns/net" }
timezone = "none"

[service.hermit]
image = "registry.skerry.example/probe:1"
network = "none"
ready = { command = ["/probe", "ask", "8080"] }

[let.who]
env-file = "mast.env"
key = "WHO"
`
	wholeTides = `own-network = false
networks = ["causeway"]

[service.store]
image = "registry.skerry.example/probe:1"
owner = "1313:1400"
after = ["mast/vane"]
ready = { log = "open for readings" }
env.PROBE_NAMES = "vane.mast wind vane"
`
)

// jettyNet is the third number of the shared network's addresses: outside of what the engines of
// scripts/with-engines take by themselves.
var jettyNet = fmt.Sprint(130 + os.Getpid()%60)

// wholeBench writes that lab.
func wholeBench(t *testing.T, target enginetest.Target, vane, beacon int) (b *bench, old string) {
	old = fmt.Sprintf("old-%d", os.Getpid())
	t.Cleanup(func() { // after that of the bench, whose containers use it
		ctx := context.Background()
		e, err := engine.Dial(ctx, target.Address)
		if !assert.NoError(t, err) {
			return
		}
		defer e.Close()
		assert.NoError(t, e.RemoveNetwork(ctx, old+".pier", old))
		assert.NoError(t, e.RemoveVolume(ctx, old+".readings", old, false))
	})
	b = newBench(t, target)
	elsewhere := map[string]string{plan.LabelLab: old}
	_, err := b.engine.CreateNetwork(t.Context(), plan.Network{Name: old + ".pier"}, elsewhere)
	require.NoError(t, err)
	_, err = b.engine.CreateVolume(t.Context(), plan.Volume{Name: old + ".readings"}, elsewhere)
	require.NoError(t, err)
	require.NoError(t, os.Mkdir(filepath.Join(b.data, "a, b"), 0o755))
	if uid, gid := b.onHost(0, 0); uid != 0 { // the engine makes folders there
		require.NoError(t, os.Chown(b.data, uid, gid))
	}
	fill := strings.NewReplacer("ADDRESS", target.Address, "DATA", b.data, "OLD", old, "SUBNET", jettyNet,
		"VANE_GID", "VANE_GID",
		"VANE", fmt.Sprint(vane), "BEACON", fmt.Sprint(beacon))
	b.write("lab.toml", fill.Replace(wholeLab))
	b.write("mast/stack.toml", fill.Replace(wholeMast))
	b.write("mast/mast.env", "MAST_TOKEN=moon-over-the-skerry\nWHO=VANE\nSTATION=north-of-the-skerry\n")
	b.write("tide-log/stack.toml", fill.Replace(wholeTides))
	return b, old
}

func TestWholeLanguage(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root may give folders away")
	}
	enginetest.Each(t, func(t *testing.T, target enginetest.Target) {
		vane, beacon := freePort(t), freePort(t)
		b, old := wholeBench(t, target, vane, beacon)
		b.run(0, strictly(target)...)
		stdout, stderr := b.run(0, "deploy", "--yes")
		assert.NotContains(t, stdout+stderr, "moon-over-the-skerry")
		stdout, _ = b.run(0, "deploy", "--dry-run")
		assert.Equal(t, 2, strings.Count(stdout, "up to date"), stdout)
		b.run(0, strictly(target)...)
		b.wholeState(vane, beacon)
		if target.Real() && target.Name != "rootless" { // whose networks nobody else gets into
			b.wholeInside(vane, beacon)
		}

		// A shared network goes with the last stack that uses it; what somebody else made, and every volume,
		// stays.
		networks := func() (names []string) {
			list, err := b.engine.Networks(t.Context(), "")
			require.NoError(t, err)
			for _, n := range list {
				if n.Lab == "skerry-light" || n.Lab == old {
					names = append(names, n.Name)
				}
			}
			return names
		}
		assert.Equal(t, []string{"mast.net", old + ".pier", "skerry-light.causeway"}, networks())
		b.run(0, "retire", "mast", "--yes")
		assert.Equal(t, []string{old + ".pier", "skerry-light.causeway"}, networks())
		b.run(0, "retire", "tide-log", "--yes")
		assert.Equal(t, []string{old + ".pier"}, networks())
		volumes, err := b.engine.Volumes(t.Context())
		require.NoError(t, err)
		for _, name := range []string{"mast.readings", "mast.scratch", old + ".readings"} {
			assert.True(t, slices.ContainsFunc(volumes, func(v survey.Volume) bool { return v.Name == name }), name)
		}
		assert.DirExists(t, filepath.Join(b.data, "kept/deep"))
	})
}

// wholeState looks at what the engine and the host show.
func (b *bench) wholeState(vane, beacon int) {
	t := b.t
	t.Helper()
	c := b.containers()
	v := c["mast.vane"]
	assert.Equal(t, "1312:1400", v.Container.User)
	if b.target.Name != "rootless" { // it has no control groups of its own
		assert.Equal(t, int64(96<<20), v.Container.Settings.Memory)
		assert.InDelta(t, 0.75, v.Container.Settings.CPUs, 0.001)
	}
	assert.Equal(t, 2*time.Second, v.Container.StopWithin)
	assert.Len(t, v.Container.Networks, 3)
	for _, want := range []string{"TZ=Atlantic/Faroe", "ZONE_TOO=Atlantic/Faroe", "VANE_UID=1312",
		"VANE_GID=1400", "MAST_TOKEN=moon-over-the-skerry", "STATION=north-of-the-skerry",
		"STORE_URL=store://moon-over-the-skerry@store.tide-log:8080", fmt.Sprint("MY_PORT=", vane)} {
		name, value, _ := strings.Cut(want, "=")
		assert.True(t,
			slices.ContainsFunc(v.Container.Env, func(e plan.Variable) bool {
				return e.Name == name && e.Value.Is(value)
			}), want)
	}
	assert.NotContains(t, v.Labels[plan.LabelDigest]+fmt.Sprint(v.Labels), "moon-over")
	for _, e := range c["mast.beacon"].Container.Env {
		assert.NotEqual(t, "TZ", e.Name, `timezone = "none"`)
	}
	assert.Contains(t, c["tide-log.store"].Container.Env,
		plan.Variable{Name: "TZ", Value: secret.Plain("Atlantic/Stanley")}, "the host over the lab")
	assert.Equal(t, "host", c["mast.beacon"].Container.Mode)
	assert.Equal(t, "none", c["mast.hermit"].Container.Mode)
	assert.Equal(t, "container:"+v.ID, c["mast.cups"].Container.NetworkOf)
	job := c["mast.import"]
	assert.Equal(t, []any{"exited", 0}, []any{job.Status, job.ExitCode})
	assert.True(t, c["mast.cups"].Started.After(job.Finished), "cups waited until import was done")
	assert.True(t, c["tide-log.store"].Started.After(v.Started), "the stack that is waited for comes first")
	_, err := b.engine.CreateNetwork(t.Context(),
		plan.Network{
			Name:     "skerry-light.causeway",
			Internal: false,
		}, map[string]string{plan.LabelLab: "skerry-light"})
	assert.ErrorIs(t, err, engine.ErrDiffers, "causeway is internal")
	info, err := os.Stat(filepath.Join(b.data, "kept/deep"))
	require.NoError(t, err)
	st := info.Sys().(*syscall.Stat_t)
	uid, gid := b.onHost(1312, 1400)
	assert.Equal(t, []uint32{uint32(uid), uint32(gid), 0o700}, []uint32{st.Uid, st.Gid, st.Mode & 0o777})
	var status struct {
		Services []struct {
			Service, State, About string
			Links                 []string
		}
	}
	stdout, _ := b.run(0, "status", "--format", "json")
	require.NoError(t, json.Unmarshal([]byte(stdout), &status))
	states := map[string]string{}
	for _, s := range status.Services {
		states[s.Service] = s.State
		if s.Service == "vane" {
			assert.Equal(t, "Which way it blows", s.About)
		}
		if s.Service == "beacon" {
			assert.Equal(t, []string{fmt.Sprintf("http://localhost:%d/", beacon)}, s.Links)
		}
	}
	assert.Equal(t,
		map[string]string{
			"vane":   "ready",
			"import": "done",
			"cups":   "ready",
			"beacon": "ready",
			"hermit": "ready",
			"store":  "ready",
		}, states)
}

// wholeInside looks from inside of the containers.
func (b *bench) wholeInside(vane, beacon int) {
	t := b.t
	t.Helper()
	c := b.containers()
	causeway := func(s engine.State) string {
		for _, a := range s.Addresses {
			if strings.HasPrefix(a, "198.19."+jettyNet+".") {
				return a
			}
		}
		return ""
	}
	v := insideOf(t, vane)
	assert.Equal(t, "yes", v.Wrote, "the folder that was made is its own, and memory is anybody's")
	ownNet := v.Files["/proc/self/ns/net"]
	hostNet, err := os.Readlink("/proc/self/ns/net")
	require.NoError(t, err)
	assert.NotEqual(t, hostNet, ownNet)
	assert.Equal(t, hostNet, insideOf(t, beacon).Files["/proc/self/ns/net"], `network = "host"`)
	for _, name := range []string{"vane", "wind", "vane.mast"} {
		assert.NotEmpty(t, net.ParseIP(strings.Fields(v.Names[name] + " ?")[0]), "%s is %s", name, v.Names[name])
	}
	assert.Equal(t, causeway(c["tide-log.store"]), v.Names["store.tide-log"], "a neighbour on the shared network")
	store := insideAt(t, causeway(c["tide-log.store"])+":8080")
	assert.Equal(t, []string{causeway(c["mast.vane"]), causeway(c["mast.vane"])},
		[]string{store.Names["vane.mast"], store.Names["wind"]})
	assert.Empty(t, net.ParseIP(store.Names["vane"]), "its short name stays in its own stack")
	assert.Equal(t, ownNet, insideAt(t, causeway(c["mast.vane"])+":8081").Files["/proc/self/ns/net"],
		"cups lives in vane's network")
	for pattern, what := range map[string]string{
		` /tmp tmpfs [^\n]*size=16384k`: "memory", ` /run/engine.sock [^\n]*\bro\b`: "the engine's socket",
		` /old [^ ]+ ro\b`: "read-only", ` /readings `: "volume", ` /scratch tmpfs `: "options of a volume",
	} {
		assert.Regexp(t, regexp.MustCompile(pattern), v.Files["/proc/self/mounts"], what)
	}
	own := b.raw("/containers/mast.vane/json")
	assert.Equal(t, "1312:1400", own.Config.User)
	assert.Equal(t, []any{int64(96 << 20), 2, "no"},
		[]any{own.HostConfig.Memory, own.Config.StopTimeout, own.HostConfig.RestartPolicy.Name}, "of [default]")
	assert.InDelta(t, 7.5e8, own.HostConfig.NanoCpus, 1e6)
	if b.target.Name == "dockerd" { // the other one does not tell
		assert.Equal(t, map[string]string{"max-file": "2", "max-size": "1000000"}, own.HostConfig.LogConfig.Config)
	}
	shared, volume := b.raw("/networks/skerry-light.causeway"), b.raw("/volumes/mast.readings")
	assert.True(t, shared.Internal)
	assert.Equal(t, "198.19."+jettyNet+".0/26", shared.IPAM.Config[0].Subnet)
	assert.Equal(t, []string{"local", "lamp"}, []string{volume.Driver, volume.Labels["example.skerry.room"]})
	assert.Equal(t, "tmpfs", b.raw("/volumes/mast.scratch").Options["type"])
	code, said, err := b.engine.Run(t.Context(), c["mast.hermit"].ID, []string{"/probe", "ask", "8080"})
	assert.NoError(t, err)
	assert.Equal(t, []any{0, "ready"}, []any{code, said})
}

func insideAt(t *testing.T, at string) inside {
	t.Helper()
	var i inside
	require.Eventually(t, func() bool {
		answer, err := http.Get("http://" + at + "/")
		if err != nil {
			return false
		}
		defer answer.Body.Close()
		return json.NewDecoder(answer.Body).Decode(&i) == nil
	}, 10*time.Second, 100*time.Millisecond)
	return i
}

// No key is left out of the labs that are deployed to every engine.
func TestEveryKeyIsDeployed(t *testing.T) {
	text := wholeLab + wholeMast + wholeTides + settingsText + tcpLab + randomText + gaugeText + adoptedText + filesText + "\n" + reloadText + sitesText + siteStack + deskStack + copiesStack
	var missing []string
	var look func(keys []declare.KeyDoc)
	look = func(keys []declare.KeyDoc) {
		for _, k := range keys {
			if !regexp.MustCompile(`(?m)(^|[{,.] ?|\[)` + k.Name + `(\.| =|\])`).MatchString(text) {
				missing = append(missing, k.Table+" "+k.Name)
			}
			look(k.Keys)
		}
	}
	look(declare.LabDocs())
	look(declare.StackDocs())
	assert.Empty(t, missing)
}

const tcpLab = `lab = "skerry-light"
owner = "1311:1400"
[host.lamp-room]
engine = "tcp://ADDRESS"
tls.ca = "tls/authority.pem"
tls.cert = "tls/lantern.pem"
tls.key = "tls/lantern.key"
insecure = "loopback needs none"
`

// An engine is reached over tcp, with certificates on both sides.
func TestEngineOverTCP(t *testing.T) {
	enginetest.Each(t, func(t *testing.T, target enginetest.Target) { overTCP(t, newBench(t, target)) })
}

func overTCP(t *testing.T, b *bench) {
	ca, server := certificates(t, filepath.Join(b.dir, "tls"))
	listener, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{
		Certificates: []tls.Certificate{server},
		ClientCAs:    ca,
		ClientAuth:   tls.RequireAndVerifyClientCert,
	})
	require.NoError(t, err)
	forward(t, listener, strings.TrimPrefix(b.target.Address, "unix://"))
	lab := strings.ReplaceAll(tcpLab, "ADDRESS", listener.Addr().String())
	b.write("lab.toml", lab)
	b.write("mast/stack.toml",
		"[service.vane]\nimage = \"registry.skerry.example/probe:1\"\n"+
			"ready = { command = [\"/probe\", \"ask\", \"8080\"] }\n")
	b.run(0, "deploy", "--yes")
	stdout, _ := b.run(0, "status")
	assert.Contains(t, stdout, "ready")
	b.run(0, "retire", "mast", "--yes")
	b.write("lab.toml", regexp.MustCompile(`tls.(cert|key) = .*\n`).ReplaceAllString(lab, ""))
	_, stderr := b.run(3, "status")
	assert.Contains(t, stderr, "no engine answers")
	assert.Contains(t, stderr, "it asks for a certificate, and lab.toml names none")
	stdout, _ = b.run(1, "check")
	assert.Contains(t, stdout, "host-unreachable  error")
	assert.NotContains(t, stdout, "engine-unreachable")
	b.write("lab.toml", strings.Replace(lab, "tls/authority.pem", "tls/none.pem", 1))
	_, stderr = b.run(3, "status")
	assert.Contains(t, stderr, "tls/none.pem of tls cannot be read")

	// Without certificates, an address that is not plainly this machine needs a reason.
	plain, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	forward(t, plain, strings.TrimPrefix(b.target.Address, "unix://"))
	lab = regexp.MustCompile(`tls.* = .*\n`).ReplaceAllString(strings.ReplaceAll(tcpLab, "ADDRESS",
		strings.Replace(plain.Addr().String(), "127.0.0.1", "0.0.0.0", 1)), "")
	b.write("lab.toml", lab)
	b.run(0, "deploy", "--yes")
	b.write("lab.toml", regexp.MustCompile(`insecure = .*\n`).ReplaceAllString(lab, ""))
	stdout, stderr = b.run(1, "deploy", "--yes")
	assert.Contains(t, stdout+stderr, "insecure = \"reason\" accepts it")
}

// forward hands what a listener gets on to a socket.
func forward(t *testing.T, listener net.Listener, socket string) {
	t.Cleanup(func() { listener.Close() })
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				to, err := net.Dial("unix", socket)
				if err != nil {
					return
				}
				defer to.Close()
				go io.Copy(to, conn)
				io.Copy(conn, to)
			}()
		}
	}()
}

// certificates writes the files that lab.toml names, and returns the server's side.
func certificates(t *testing.T, dir string) (*x509.CertPool, tls.Certificate) {
	t.Helper()
	require.NoError(t, os.Mkdir(dir, 0o700))
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	authority := &x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Skerry Light"},
		NotAfter: time.Now().Add(90 * 24 * time.Hour), IsCA: true, BasicConstraintsValid: true,
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
		KeyUsage:    x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth},
	}
	der, err := x509.CreateCertificate(rand.Reader, authority, authority, &key.PublicKey, key)
	require.NoError(t, err)
	secret, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	cert := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
	for name, text := range map[string][]byte{
		"authority.pem": cert,
		"lantern.pem":   cert,
		"lantern.key":   pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secret}),
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), text, 0o600))
	}
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(cert)
	return pool, tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
}

// strictly checks that nothing at all is wrong; without root some limits are not to be had, which is a warning.
func strictly(target enginetest.Target) []string {
	if target.Name == "rootless" {
		return []string{"check"}
	}
	return []string{"check", "--strict"}
}
