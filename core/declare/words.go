package declare

import (
	"slices"
	"strings"
)

// Word is what people call a key of ours elsewhere.
type Word struct {
	Key  string // ours; "" where there is none
	Text string // what to do, where the key alone does not say it
}

// What people bring along from other formats for services, from container engines' own commands, and from
// service managers, into ours. Nothing of it is accepted; each word gets an answer.
var (
	serviceWords = map[string]Word{
		"environment": {Key: "env"}, "variables": {Key: "env"}, "vars": {Key: "env"}, "envs": {Key: "env"},
		"env-file": {Key: "env-files"}, "environment-file": {Key: "env-files"}, "env-from": {Key: "env-files"},
		"volume": {Key: "mounts"}, "volumes": {Key: "mounts"}, "volume-mounts": {Key: "mounts"},
		"configs": {Key: "files"}, "config-files": {Key: "files"}, "on-change": {Key: "reload"},
		"bind": {Key: "mounts"}, "binds": {Key: "mounts"}, "mount": {Key: "mounts"},
		"bind-paths": {Key: "mounts"}, "paths": {Key: "mounts"},
		"tmpfs":      {"mounts", `a file system in memory is a mount: "memory 64MiB -> /tmp"`},
		"depends-on": {Key: "after"}, "depends": {Key: "after"}, "requires": {Key: "after"},
		"needs": {Key: "after"}, "wants": {Key: "after"}, "order": {Key: "after"},
		"links": {"after", "services of a stack reach each other by name without it; after is the order"},
		"user":  {Key: "run-as"}, "run-as-user": {Key: "run-as"},
		"uid": {"run-as", `uid and gid stand together: run-as = "1311:1400"`},
		"gid": {"run-as", `uid and gid stand together: run-as = "1311:1400"`}, "username": {Key: "run-as"},
		"group-add": {Key: "extra-groups"}, "groups": {Key: "extra-groups"},
		"supplementary-groups": {Key: "extra-groups"},
		"network-mode": {"network",
			`network is "host" or "none"; shares-network-with names a service whose network it lives in`},
		"net": {Key: "network"}, "host-network": {"network", `network = "host"`},
		"cap-add": {Key: "capabilities"}, "caps": {Key: "capabilities"}, "cap-drop": {Key: "drop-capabilities"},
		"healthcheck":  {"ready", `such as ready = { http = "8080/health" }`},
		"health-check": {"ready", `such as ready = { http = "8080/health" }`}, "health": {Key: "ready"},
		"probe": {Key: "ready"}, "readiness-probe": {Key: "ready"}, "liveness-probe": {Key: "ready"},
		"container-name": {"",
			"the container is called STACK.SERVICE; aliases gives it further names on its networks"},
		"name":      {"", "the name stands in the header: [service.NAME]"},
		"mem-limit": {Key: "memory"}, "memory-limit": {Key: "memory"}, "memory-max": {Key: "memory"},
		"mem": {Key: "memory"}, "ram": {Key: "memory"}, "cpu": {Key: "cpus"}, "cpu-limit": {Key: "cpus"},
		"cpu-quota": {Key: "cpus"}, "shm-size": {Key: "shared-memory"},
		"limits":      {"memory", "memory and cpus are keys of the service"},
		"resources":   {"memory", "memory and cpus are keys of the service"},
		"extra-hosts": {Key: "address-book"}, "add-host": {Key: "address-book"},
		"host-aliases": {Key: "address-book"}, "hosts": {Key: "address-book"},
		"restart-policy": {Key: "restart"}, "on-failure": {"restart", `restart = "on-failure 3"`},
		"stop-grace-period": {Key: "stop-within"}, "stop-timeout": {Key: "stop-within"},
		"timeout-stop-sec": {Key: "stop-within"}, "kill-signal": {Key: "stop-signal"},
		"workdir": {Key: "working-dir"}, "working-directory": {Key: "working-dir"},
		"cwd": {Key: "working-dir"}, "cmd": {Key: "command"}, "args": {Key: "command"},
		"exec": {Key: "command"}, "exec-start": {Key: "command"},
		"publish": {Key: "ports"}, "publish-port": {Key: "ports"}, "port-mappings": {Key: "ports"},
		"port-bindings": {Key: "ports"},
		"expose": {"",
			"neighbours reach every port of a service without it; ports publishes some on the host"},
		"tz": {Key: "timezone"}, "time-zone": {Key: "timezone"}, "logging": {Key: "log-limit"},
		"log-driver": {Key: "log-limit"}, "log-opts": {Key: "log-limit"},
		"pull": {Key: "fetch"}, "pull-policy": {Key: "fetch"}, "image-pull-policy": {Key: "fetch"},
		"read-only-root": {Key: "read-only"}, "read-only-root-filesystem": {Key: "read-only"},
		"readonly": {Key: "read-only"},
		"sysctl":   {Key: "sysctls"}, "ulimit": {Key: "ulimits"}, "label": {Key: "labels"},
		"device": {Key: "devices"}, "alias": {Key: "aliases"}, "network-alias": {Key: "aliases"},
		"domainname": {Key: "hostname"},
		"url":        {Key: "page"}, "link": {Key: "page"}, "description": {Key: "about"},
		"comment": {Key: "about"},
		"secrets": {"secret-variables",
			"it lists variables that are secret though their names do not say so; a secret itself comes " +
				"out of an environment file"},
		"scale": {Key: "copies"}, "replicas": {Key: "copies"}, "instances": {Key: "copies"}, "count": {Key: "copies"},
		"context": {"build", "it is the folder of a build: build = { folder = \"./image\" }"}, "dockerfile": {"build", "it is the recipe of a build: " +
			"build = { folder = \"./image\", recipe = \"NAME\" }"},
	}
	buildWords = map[string]Word{
		"context": {Key: "folder"}, "path": {Key: "folder"}, "dir": {Key: "folder"}, "directory": {Key: "folder"},
		"dockerfile": {Key: "recipe"}, "containerfile": {Key: "recipe"}, "file": {Key: "recipe"},
		"target": {Key: "stage"}, "args": {Key: "arguments"}, "build-args": {Key: "arguments"}, "build-arg": {Key: "arguments"},
		"ignore": {"", "what the folder holds and the recipe does not need stands in its .containerignore"},
		"tags":   {"", "image is the name that the result bears"}, "tag": {"", "image is the name that the result bears"},
		"secrets": {"", "everybody who has an image can read what went into it: hand secrets over in env, when it runs"},
	}
	stackWords = map[string]Word{
		"services":   {"service", "each service has a table of its own: [service.NAME]"},
		"containers": {"service", "each service has a table of its own: [service.NAME]"},
		"container":  {"service", "each service has a table of its own: [service.NAME]"},
		"app":        {"service", "each service has a table of its own: [service.NAME]"},
		"volumes":    {"volume", "each volume has a table of its own: [volume.NAME]"},
		"name":       {"", "a stack is called as its folder is"},
		"version":    {"", "the format has no versions"}, "variables": {Key: "let"}, "vars": {Key: "let"},
		"tz":   {Key: "timezone"},
		"user": {Key: "owner"}, "network": {Key: "networks"}, "description": {Key: "about"},
		"secrets": {"let",
			`a secret comes out of an environment file: NAME = { env-file = "a.env", key = "NAME" }`},
		"server": {Key: "host"}, "node": {Key: "host"},
		"image":  {"service", "an image belongs to a service: [service.NAME] above it"},
		"ports":  {"service", "ports belong to a service: [service.NAME] above them"},
		"env":    {"service", "variables belong to a service: [service.NAME] above them"},
		"mounts": {"service", "mounts belong to a service: [service.NAME] above them"},
	}
	labWords = map[string]Word{
		"name": {Key: "lab"}, "hosts": {"host", "each host has a table of its own: [host.NAME]"},
		"server":   {"host", "each host has a table of its own: [host.NAME]"},
		"servers":  {"host", "each host has a table of its own: [host.NAME]"},
		"nodes":    {"host", "each host has a table of its own: [host.NAME]"},
		"engine":   {"host", "an engine belongs to a host:\n[host.NAME]\nengine = \"unix:///PATH\""},
		"socket":   {"host", "an engine belongs to a host:\n[host.NAME]\nengine = \"unix:///PATH\""},
		"address":  {"host", "an address belongs to a host: [host.NAME] above it"},
		"networks": {"network", "each network has a table of its own: [network.NAME]"},
		"folders":  {Key: "folder"}, "paths": {Key: "folder"}, "variables": {Key: "let"},
		"vars": {Key: "let"}, "tz": {Key: "timezone"}, "user": {Key: "owner"}, "defaults": {Key: "default"},
		"service":  {"", "services stand in a stack: a folder with a stack.toml"},
		"services": {"", "services stand in a stack: a folder with a stack.toml"},
		"stacks":   {"", "a stack is a folder with a stack.toml; no list names them"},
		"stack":    {"", "a stack is a folder with a stack.toml; no list names it"},
	}
)

// wordsOf are those of a table, by how a message names it.
var wordsOf = map[string]map[string]Word{"a service": serviceWords, "build": buildWords, "stack.toml": stackWords, "lab.toml": labWords}

// ours writes a name as our keys are written: small letters, with - between words.
func ours(name string) string {
	var b strings.Builder
	for i, c := range name {
		switch {
		case c == '_' || c == ' ':
			b.WriteByte('-')
		case c >= 'A' && c <= 'Z':
			if i > 0 && name[i-1] >= 'a' && name[i-1] <= 'z' {
				b.WriteByte('-')
			}
			b.WriteRune(c + 'a' - 'A')
		default:
			b.WriteRune(c)
		}
	}
	return b.String()
}

// Elsewhere returns what a word from elsewhere is called in a table: "a service", "build", "stack.toml" or "lab.toml".
func Elsewhere(where, word string) (Word, bool) {
	w, ok := wordsOf[where][ours(word)]
	return w, ok
}

// AnyElsewhere returns what a word from elsewhere is called in any table, with the tables.
func AnyElsewhere(word string) (tables []string, words []Word) {
	for _, where := range []string{"a service", "build", "stack.toml", "lab.toml"} {
		if w, ok := Elsewhere(where, word); ok && !slices.Contains(words, w) {
			tables, words = append(tables, where), append(words, w)
		}
	}
	return tables, words
}
