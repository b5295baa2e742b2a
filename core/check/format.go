package check

// formatRules are found while the files are read and resolved; the check gives them their names and severities.
var formatRules = []Rule{
	{
		Name: "syntax", Severity: Error, Needs: Files,
		Title:   "a file of the lab cannot be read as TOML",
		Text:    "What is behind the mark cannot be understood and is not guessed at. All other files are still read and checked.",
		Mistake: `image = "registry.skerry.example/sensor:1.4`,
		Mended:  `image = "registry.skerry.example/sensor:1.4"`,
		Find:    resolverFinds,
	}, {
		Name: "key-unknown", Severity: Error, Needs: Files, Mends: true,
		Title:   "a key that the format does not have, or a rule in [check] or accept that there is not",
		Text:    "A key that nobody reads looks as if it were obeyed. The nearest key that exists is offered.",
		Mistake: `port = ["8710 -> 80"]`,
		Mended:  `ports = ["8710 -> 80"]`,
		Find: func(in *Input) {
			resolverFinds(in)
			rulesUnknown(in)
		},
	}, {
		Name: "key-missing", Severity: Error, Needs: Files,
		Title:   "a key without which the rest has no meaning is not there",
		Text:    "A service needs an image, a lab a name; what hands over the owner's ids needs an owner.",
		Mistake: `[service.desk]`,
		Mended:  "[service.desk]\nimage = \"registry.skerry.example/tide-desk:2.3\"",
		Find:    resolverFinds,
	}, {
		Name: "value-type", Severity: Error, Needs: Files,
		Title:   "a value of another type than the key takes",
		Text:    "A list where a text belongs, a text where a number belongs: TOML tells these apart.",
		Mistake: `ports = "8710 -> 80"`,
		Mended:  `ports = ["8710 -> 80"]`,
		Find:    resolverFinds,
	}, {
		Name: "value-grammar", Severity: Error, Needs: Files, Mends: true,
		Title:   "a port, mount, size, duration or other value that does not follow its grammar",
		Text:    "The mark is on the part that cannot be understood.",
		Mistake: `ports = ["8710-8712 -> 80-81"]`,
		Mended:  `ports = ["8710-8712 -> 80-82"]`,
		Find:    resolverFinds,
	}, {
		Name: "name-invalid", Severity: Error, Needs: Files, Mends: true,
		Title:   "a name with other than small letters, digits and -, or longer than 40",
		Text:    "Names become names of containers, networks and hosts, where other letters are not possible.",
		Mistake: `[service.Tide_Desk]`,
		Mended:  `[service.tide-desk]`,
		Find:    resolverFinds,
	}, {
		Name: "reference-unknown", Severity: Error, Needs: Files, Mends: true,
		Title:   "a reference ${…} that leads nowhere",
		Text:    "Nothing is turned into an empty text behind your back. The nearest name that exists is offered.",
		Mistake: `env.STORE_DB = "${db-nam}"`,
		Mended:  `env.STORE_DB = "${db-name}"`,
		Find:    resolverFinds,
	}, {
		Name: "reference-circular", Severity: Error, Needs: Files,
		Title:   "references that need each other",
		Text:    "Values that stand for each other have none. The circle is named in full.",
		Mistake: "[let]\na = \"${b}\"\nb = \"${a}\"",
		Mended:  "[let]\na = \"tides\"\nb = \"${a}\"",
		Find:    resolverFinds,
	}, {
		Name: acceptUnused, Severity: Warning, Needs: Files, Mends: true,
		Title:   "a finding is accepted that is not found any more",
		Text:    "The next one of its kind would pass without a word.",
		Mistake: "[accept]\nport-random = \"nobody needs to know it\"    # and no port is",
		Mended:  "[accept]",
		Find:    func(*Input) {}, // looks at what the others have found, once they have
	},
}
