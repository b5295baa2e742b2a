package interchange

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/docker/go-units"

	"proudlantern.example/lantern/core/declare"
)

func readPorts(c *converter, s *service, p pair) {
	for _, n := range p.at.items {
		text := n.text
		if n.kind == table {
			text = c.longPort(s, n)
		} else {
			text = shortPort(text, s.copies())
		}
		if text == "" || strings.Contains(text, unknownMark) {
			c.note(n.line, s.at+".ports", "%s is known only where it is deployed: write the ports", strings.ReplaceAll(n.text, unknownMark, "$"))
			continue
		}
		if _, err := declare.ParsePort(text); err != nil {
			c.note(n.line, s.at+".ports", "%s: %s", n.text, err)
			continue
		}
		s.ports = append(s.ports, newItem(text, n.line, "ports"))
	}
}

// shortPort turns [[IP:]HOST:]CONTAINER[/PROTOCOL] around.
func shortPort(text string, copies int) string {
	text, protocol, _ := strings.Cut(text, "/")
	container := text[strings.LastIndexByte(text, ':')+1:]
	rest := strings.TrimSuffix(strings.TrimSuffix(text, container), ":")
	address, host := "", rest
	if i := strings.LastIndexByte(rest, ':'); i >= 0 {
		address, host = rest[:i], rest[i+1:]
	}
	return portText(address, host, container, protocol, copies)
}

func portText(address, host, container, protocol string, copies int) string {
	if container == "" {
		return ""
	}
	if host == "" {
		host = "any"
	}
	if first, last, is := strings.Cut(host, "-"); is && !strings.Contains(container, "-") {
		from, _ := strconv.Atoi(first)
		if to, _ := strconv.Atoi(last); copies < 2 || to-from+1 != copies { // else each copy has one of them
			host = "any" // the engine picks one of a range
		}
	}
	switch address {
	case "", "0.0.0.0":
	default:
		if strings.Contains(address, ":") && !strings.HasPrefix(address, "[") {
			address = "[" + address + "]"
		}
		host = address + ":" + host
	}
	if protocol != "" && protocol != "tcp" {
		container += "/" + protocol
	}
	return host + " -> " + container
}

func (c *converter) longPort(s *service, n *node) string {
	get := func(name string) string {
		if v := n.get(name); v != nil {
			return v.text
		}
		return ""
	}
	for _, p := range n.pairs {
		switch p.key {
		case "target", "published", "host_ip", "protocol", "name", "app_protocol":
		case "mode":
			if p.at.text != "ingress" && p.at.text != "host" {
				c.note(p.line, s.at+".ports.mode", "%s has no counterpart", p.at.text)
			}
		default:
			c.note(p.line, s.at+".ports."+p.key, "lantern knows no such element: take it out, or write what it means")
		}
	}
	return portText(get("host_ip"), get("published"), get("target"), get("protocol"), s.copies())
}

func readMounts(c *converter, s *service, p pair) {
	for _, n := range p.at.items {
		if n.kind == table {
			c.longMount(s, n)
		} else {
			c.shortMount(s, n)
		}
	}
}

func (c *converter) shortMount(s *service, n *node) {
	parts := strings.Split(n.text, ":")
	if strings.Contains(n.text, unknownMark) {
		c.note(n.line, s.at+".volumes", "its path is known only where it is deployed: write it")
		return
	}
	if len(parts) == 1 {
		c.mount(s, n.line, "", parts[0], nil)
		return
	}
	var options []string
	if len(parts) > 2 {
		options = strings.Split(parts[2], ",")
	}
	c.mount(s, n.line, parts[0], parts[1], options)
}

func (c *converter) longMount(s *service, n *node) {
	get := func(name string) string {
		if v := n.get(name); v != nil {
			return v.text
		}
		return ""
	}
	c.otherMountKeys(s, n)
	var options []string
	if get("read_only") == "true" {
		options = append(options, "ro")
	}
	if b := n.get("bind"); b != nil {
		for _, p := range b.pairs {
			switch {
			case p.key == "create_host_path" && p.at.text == "false":
				options = append(options, "no-create")
			case p.key == "create_host_path":
			case p.key == "propagation":
				options = append(options, p.at.text)
			case p.key == "selinux":
				options = append(options, p.at.text)
			default:
				c.note(p.line, s.at+".volumes.bind."+p.key, "has no counterpart")
			}
		}
	}
	if v := n.get("volume"); v != nil {
		for _, p := range v.pairs {
			if p.key == "nocopy" && p.at.text == "true" {
				options = append(options, "nocopy")
			} else if p.key != "nocopy" {
				c.note(p.line, s.at+".volumes.volume."+p.key, "has no counterpart")
			}
		}
	}
	switch kind := get("type"); kind {
	case "bind":
		source := get("source")
		if !strings.HasPrefix(source, "/") && !strings.HasPrefix(source, ".") && !strings.HasPrefix(source, "~") {
			source = "./" + source
		}
		c.mount(s, n.line, source, get("target"), options)
	case "volume", "":
		c.mount(s, n.line, get("source"), get("target"), options)
	case "tmpfs":
		size := ""
		if t := n.get("tmpfs"); t != nil && t.get("size") != nil {
			size = t.get("size").text
		}
		c.memory(s, n.line, get("target"), size, "volumes")
	default:
		c.note(n.line, s.at+".volumes", "a mount of type %s has no counterpart", kind)
	}
}

// otherMountKeys notes what the long form of a mount says that has no counterpart.
func (c *converter) otherMountKeys(s *service, n *node) {
	for _, p := range n.pairs {
		switch p.key {
		case "type", "source", "target", "read_only", "bind", "volume", "tmpfs":
		case "consistency":
			c.note(p.line, s.at+".volumes.consistency", "means nothing on Linux: leave it out")
		default:
			c.note(p.line, s.at+".volumes."+p.key, "has no counterpart: leave it out, or mount something else there")
		}
	}
	if t := n.get("tmpfs"); t != nil {
		for _, p := range t.pairs {
			if p.key != "size" {
				c.note(p.line, s.at+".volumes.tmpfs."+p.key, "has no counterpart: everybody inside may write there")
			}
		}
	}
}

// mount adds a mount of a path, or of a volume by its name ("" for one without).
func (c *converter) mount(s *service, line place, from, target string, options []string) {
	var ours []string
	create, isPath := true, strings.HasPrefix(from, "/") || strings.HasPrefix(from, ".") || strings.HasPrefix(from, "~")
	for _, o := range options {
		switch o {
		case "ro":
			ours = append(ours, "read-only")
		case "no-create":
			create = false
		case "nocopy":
			ours = append(ours, "start-empty")
		case "rshared", "shared":
			ours = append(ours, "shared")
		case "rw", "", "z", "Z", "rprivate", "private", "cached", "delegated", "consistent":
		default:
			c.note(line, s.at+".volumes", "the option %s has no counterpart", o)
		}
	}
	if !isPath {
		c.volumeMount(s, line, from, target, ours)
		return
	}
	source := from
	switch {
	case strings.HasPrefix(from, "~"):
		c.note(line, s.at+".volumes", "%s is the home of whoever deploys: write the whole path", from)
		return
	case strings.HasPrefix(from, "."):
		clean, _ := below(from)
		if c.in.Exists(clean) {
			source = path.Join(c.in.Folder, clean) // the data are there
			c.note(line, s.at+".volumes", "%s stays where it is: %s", from, source)
			create = false
		} else {
			source = "./" + strings.TrimLeft(path.Clean("/"+from), "/")
			c.note(line, s.at+".volumes", "%s does not exist: it becomes %s of the stack's folder", from, source)
		}
	}
	if create && path.Ext(source) == "" {
		ours = append(ours, "create") // engines make it
	}
	c.mountItem(s, line, source, target, ours)
}

func (c *converter) mountItem(s *service, line place, source, target string, options []string) {
	text := quotedPath(source) + " -> " + quotedPath(target)
	if len(options) > 0 {
		text += ", " + strings.Join(options, ", ")
	}
	if _, err := declare.ParseMount(text); err != nil {
		c.note(line, s.at+".volumes", "%s: %s", text, err)
		return
	}
	s.mounts = append(s.mounts, newItem(text, line, "volumes"))
}

// quotedPath puts a path in quotes where it holds what means something in a mount.
func quotedPath(p string) string {
	if strings.ContainsAny(p, ",'") || strings.Contains(p, "->") {
		return "'" + strings.ReplaceAll(p, "'", "") + "'"
	}
	return p
}

func (c *converter) volumeMount(s *service, line place, name, target string, options []string) {
	v := c.volumes[name]
	switch {
	case name == "":
		own := c.volumeName(s.name + "-" + path.Base(target))
		v = &volume{name: own, lines: []string{fmt.Sprintf("# %s: it has no name there", line)}}
		c.volumes["\x00"+own] = v
	case v == nil:
		v = &volume{name: c.volumeName(name)}
		c.volumes[name] = v
		if !c.isCommand {
			c.note(line, s.at+".volumes", "the file does not declare the volume %s", name)
		}
	}
	v.used = true
	c.mountItem(s, line, "volume "+v.name, target, options)
}

func readTmpfs(c *converter, s *service, p pair) {
	for _, n := range texts(p.at) {
		target, options, _ := strings.Cut(n.text, ":")
		size := ""
		for _, o := range strings.Split(options, ",") {
			if value, ok := strings.CutPrefix(o, "size="); ok {
				size = value
			} else if o != "" {
				c.note(n.line, s.at+".tmpfs", "the option %s has no counterpart", o)
			}
		}
		c.memory(s, n.line, target, size, "tmpfs")
	}
}

func (c *converter) memory(s *service, line place, target, size, element string) {
	source := "memory"
	if size != "" {
		n, err := units.RAMInBytes(size)
		if err != nil {
			c.note(line, s.at+"."+element, "%q is no size", size)
			return
		}
		source += " " + BinarySize(n)
	}
	c.mountItem(s, line, source, target, nil)
}

func readRestart(c *converter, s *service, p pair) {
	text := strings.Replace(p.at.text, ":", " ", 1)
	if p.at.text == "false" { // YAML reads a bare no that way
		text = "no"
	}
	if _, err := declare.ParseRestart(text); err != nil {
		c.note(p.line, s.at+".restart", "%s has no counterpart", p.at.text)
		return
	}
	s.add(p.line, p.key, "restart = %q", text)
}

func readDependsOn(c *converter, s *service, p pair) {
	if p.at.kind == list {
		for _, n := range p.at.items {
			c.after(s, n.text, "", n.line, "depends_on")
		}
		return
	}
	for _, q := range p.at.pairs {
		word := ""
		for _, r := range q.at.pairs {
			switch {
			case r.key == "condition" && r.at.text == "service_completed_successfully":
				word = " done"
			case r.key == "condition", r.key == "required" && r.at.text == "true", r.key == "restart" && r.at.text == "false":
			case r.key == "required":
				c.note(r.line, s.at+".depends_on."+q.key, "required: false has no counterpart: it is waited for")
			case r.key == "restart":
				c.note(r.line, s.at+".depends_on."+q.key, "restart has no counterpart: services are not restarted with others")
			}
		}
		c.after(s, q.key, word, q.line, "depends_on")
	}
}

func (c *converter) after(s *service, there, word string, line place, element string) {
	services := c.root.get("services")
	if services.get(there) == nil {
		c.note(line, s.at+"."+element, "there is no service %s", there)
		return
	}
	if _, in := c.names[there]; !in {
		c.note(line, s.at+"."+element, "%s is left out, so it is not waited for", there)
		return
	}
	next := newItem(c.names[there]+word, line, element)
	for _, a := range s.after {
		if a.value == next.value {
			return
		}
	}
	s.after = append(s.after, next)
}

func readLinks(c *converter, s *service, p pair) {
	for _, n := range texts(p.at) {
		there, alias, has := strings.Cut(n.text, ":")
		c.after(s, there, "", n.line, "links")
		if has && alias != there {
			c.note(n.line, s.at+".links", "%s is called %s there: add aliases = [%q] to it", there, alias, alias)
		}
	}
}

func readHealth(c *converter, s *service, p pair) {
	test := p.at.get("test")
	if d := p.at.get("disable"); d != nil && d.text == "true" || test != nil && test.kind == list && len(test.items) > 0 && test.items[0].text == "NONE" {
		c.note(p.line, s.at+".healthcheck", "none is wanted: a service without ready has to be up for 10 s")
		return
	}
	within, total := "", time.Duration(0)
	each, retries := 30*time.Second, 3
	for _, q := range p.at.pairs {
		d, err := time.ParseDuration(q.at.text)
		switch {
		case q.key == "interval" && err == nil:
			each = d
		case q.key == "start_period" && err == nil:
			total += d
		case q.key == "retries":
			retries, _ = strconv.Atoi(q.at.text)
		}
	}
	total += each * time.Duration(max(retries, 1))
	if text, ok := duration(total.String()); ok {
		within = fmt.Sprintf(", within = %q", text)
	}
	if test == nil {
		s.add(p.line, p.key, "ready = { image = true%s }", within)
		return
	}
	var words []string
	switch {
	case test.kind == scalar:
		words = []string{"/bin/sh", "-c", test.text}
	case len(test.items) > 1 && test.items[0].text == "CMD-SHELL":
		words = []string{"/bin/sh", "-c", test.items[1].text}
	case len(test.items) > 1 && test.items[0].text == "CMD":
		for _, n := range test.items[1:] {
			words = append(words, n.text)
		}
	default:
		c.note(p.line, s.at+".healthcheck.test", "it begins with neither CMD nor CMD-SHELL")
		return
	}
	var all []string
	for _, w := range words {
		all = append(all, quoted(w))
	}
	s.add(p.line, p.key, "ready = { command = [%s]%s }", strings.Join(all, ", "), within)
}

func readNetworks(c *converter, s *service, p pair) {
	s.own = false
	top := c.root.get("networks")
	var shared []string
	add := func(name string, line place, at *node) {
		s.own = s.own || top == nil || top.get(name) == nil || !external(top.get(name))
		if top != nil && top.get(name) != nil && external(top.get(name)) {
			shared = append(shared, quoted(c.volumeName(name)))
		} else if name != "default" && (top == nil || top.get(name) == nil) {
			c.note(line, s.at+".networks", "the file does not declare the network %s", name)
		}
		if at == nil {
			return
		}
		for _, q := range at.pairs {
			if q.key == "aliases" {
				for _, a := range q.at.items {
					if !slices.Contains(s.aliases, a.text) {
						s.aliases = append(s.aliases, a.text)
					}
				}
			} else {
				c.note(q.line, s.at+".networks."+name+"."+q.key, "has no counterpart: services reach each other by name")
			}
		}
	}
	for _, n := range p.at.items {
		add(n.text, n.line, nil)
	}
	for _, q := range p.at.pairs {
		add(q.key, q.line, q.at)
	}
	if len(shared) > 0 {
		s.add(p.line, p.key, "networks = [%s]", strings.Join(shared, ", "))
	}
}

func readNetworkMode(c *converter, s *service, p pair) {
	switch mode := p.at.text; {
	case mode == "host" || mode == "none":
		s.add(p.line, p.key, "network = %q", mode)
	case strings.HasPrefix(mode, "service:"):
		there := strings.TrimPrefix(mode, "service:")
		s.add(p.line, p.key, "shares-network-with = %q", c.known(there))
	case mode == "bridge" || mode == "default":
	default:
		c.note(p.line, s.at+".network_mode", "%s has no counterpart", mode)
	}
}

// known returns the name of a service here, also of one that is not read.
func (c *converter) known(there string) string {
	if own, ok := c.names[there]; ok {
		return own
	}
	return there
}

func readLogging(c *converter, s *service, p pair) {
	driver := "json-file"
	if d := p.at.get("driver"); d != nil {
		driver = d.text
	}
	if driver != "json-file" && driver != "local" {
		c.note(p.line, s.at+".logging.driver", "%s has no counterpart: the engine keeps logs, and log-limit bounds them", driver)
		return
	}
	options := p.at.get("options")
	if options == nil {
		return
	}
	size, files := "", "1"
	for _, q := range options.pairs {
		switch q.key {
		case "max-size":
			size = q.at.text
		case "max-file":
			files = q.at.text
		default:
			c.note(q.line, s.at+".logging.options."+q.key, "has no counterpart")
		}
	}
	n, err := units.FromHumanSize(size) // sizes of logs count in 1000
	if count, wrong := strconv.Atoi(files); err != nil || wrong != nil || n <= 0 || count < 1 {
		if size != "" {
			c.note(p.line, s.at+".logging.options", "max-size %q and max-file %q are no limit", size, files)
		}
		return
	}
	s.add(p.line, p.key, "log-limit = %q", fmt.Sprintf("%s x %s", files, DecimalSize(n)))
}

// DecimalSize writes bytes in the largest unit of powers of 1000 that fits.
func DecimalSize(n int64) string {
	for _, u := range []struct {
		name string
		size int64
	}{{"GB", 1e9}, {"MB", 1e6}, {"kB", 1e3}} {
		if n >= u.size && n%u.size == 0 {
			return fmt.Sprintf("%d%s", n/u.size, u.name)
		}
	}
	return fmt.Sprintf("%dB", n)
}

func readDeploy(c *converter, s *service, p pair) {
	for _, q := range p.at.pairs {
		if q.key != "resources" {
			if q.key == "replicas" {
				readCopies(c, s, q)
				continue
			}
			c.note(q.line, s.at+".deploy."+q.key, "has no counterpart for a single machine")
			continue
		}
		for _, r := range q.at.pairs {
			if r.key != "limits" {
				c.note(r.line, s.at+".deploy.resources."+r.key, "has no counterpart: limits have")
				continue
			}
			for _, l := range r.at.pairs {
				switch l.key {
				case "cpus":
					readNumber("cpus")(c, s, l)
				case "memory":
					readSize("memory")(c, s, l)
				default:
					c.note(l.line, s.at+".deploy.resources.limits."+l.key, "has no counterpart")
				}
			}
		}
	}
}

func readDevices(c *converter, s *service, p pair) {
	var all []string
	for _, n := range p.at.items {
		text := n.text
		if n.kind == table {
			from, to := n.get("source"), n.get("target")
			if from == nil {
				continue
			}
			text = from.text
			if to != nil {
				text += ":" + to.text
			}
		}
		parts := strings.Split(text, ":")
		device := parts[0]
		if len(parts) > 1 && parts[1] != parts[0] {
			device += " -> " + parts[1]
		}
		if len(parts) > 2 && parts[2] != "rwm" {
			c.note(n.line, s.at+".devices", "the rights %s have no counterpart: it gets rwm", parts[2])
		}
		if strings.HasPrefix(device, "/") {
			all = append(all, quoted(device))
		} else {
			c.note(n.line, s.at+".devices", "%s is no device file", text)
		}
	}
	if len(all) > 0 {
		s.add(p.line, p.key, "devices = [%s]", strings.Join(all, ", "))
	}
}

func readUlimits(_ *converter, s *service, p pair) {
	var all []string
	for _, q := range p.at.pairs {
		value := q.at.text
		if soft, hard := q.at.get("soft"), q.at.get("hard"); soft != nil && hard != nil {
			value = soft.text + ":" + hard.text
		}
		all = append(all, declare.KeyName(q.key)+" = "+quoted(value))
	}
	if len(all) > 0 {
		s.add(p.line, p.key, "ulimits = { %s }", strings.Join(all, ", "))
	}
}

func readExtraHosts(_ *converter, s *service, p pair) {
	var all []string
	add := func(name, address string) {
		address = strings.Trim(address, "[]")
		all = append(all, declare.KeyName(name)+" = "+quoted(address))
	}
	for _, n := range p.at.items {
		i := strings.IndexAny(n.text, "=:")
		if i > 0 {
			add(n.text[:i], n.text[i+1:])
		}
	}
	for _, q := range p.at.pairs {
		for _, n := range texts(q.at) {
			add(q.key, n.text)
		}
	}
	if len(all) > 0 {
		s.add(p.line, p.key, "address-book = { %s }", strings.Join(all, ", "))
	}
}
