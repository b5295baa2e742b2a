package check

// formatRules are found while the files are read and resolved; the check gives them their names and severities.
var formatRules = []Rule{
	{
		Name: "syntax", Severity: Error, Needs: Files,
		Title: "a file of the lab cannot be read as TOML",
		Text: "What is behind the mark cannot be understood and is not guessed at. All other files are " +
			"still read and checked.",
		Mistake: `about = "readings`,
		Mended:  `about = "readings"`,
		Find:    resolverFinds,
	}, {
		Name: "key-unknown", Severity: Error, Needs: Files, Mends: true,
		Title:   "an unknown key, or an unknown rule in [check] or accept",
		Text:    "A key that is not read looks as if it were obeyed. The check offers the nearest key that exists.",
		Mistake: `port = ["8720 -> 80"]`,
		Mended:  `ports = ["8720 -> 80"]`,
		Find: func(in *Input) {
			resolverFinds(in)
			rulesUnknown(in)
		},
	}, {
		Name: "stack-misnamed", Severity: Warning, Needs: Files,
		Title: "a file that is probably meant to be stack.toml, under another name",
		Text: "A stack is a folder with a stack.toml; any other file is left alone, and the stack would " +
			"be missing without a word.",
		Mistake: `image = "registry.skerry.example/sensor:1.4"    # in mast/Stack.toml`,
		Mended:  `image = "registry.skerry.example/sensor:1.4"    # in mast/stack.toml`,
		Find:    resolverFinds,
	}, {
		Name: "key-missing", Severity: Error, Needs: Files,
		Title:   "a required key is missing",
		Text:    "A service needs an image, a lab a name; what hands over the owner's ids needs an owner.",
		Mistake: `[service.sensor]    # and no image`,
		Mended:  "[service.sensor]\nimage = \"registry.skerry.example/sensor:1.4\"",
		Find:    resolverFinds,
	}, {
		Name: "value-type", Severity: Error, Needs: Files, Mends: true,
		Title:   "a value of another type than the key takes",
		Text:    "A list where a text belongs, a text where a number belongs: TOML tells these apart.",
		Mistake: `ports = "8720 -> 80"`,
		Mended:  `ports = ["8720 -> 80"]`,
		Find:    resolverFinds,
	}, {
		Name: "value-grammar", Severity: Error, Needs: Files, Mends: true,
		Title:   "a port, mount, size, duration or other value in the wrong format",
		Text:    "The mark is on the part that cannot be understood.",
		Mistake: `ports = ["8720-8722 -> 80-81", "8725 -> 80/tpc"]`,
		Mended:  `ports = ["8720-8722 -> 80-82", "8725 -> 80/tcp"]`,
		Find:    resolverFinds,
	}, {
		Name: "name-invalid", Severity: Error, Needs: Files, Mends: true,
		Title:   "a name with other characters than small letters, digits and -, or longer than 40",
		Text:    "Names become names of containers, networks and hosts, where other letters are not possible.",
		Mistake: `[service.Wind_Vane]`,
		Mended:  `[service.wind-vane]`,
		Find:    resolverFinds,
	}, {
		Name: "reference-unknown", Severity: Error, Needs: Files, Mends: true, Rests: Names,
		Title:   "a reference ${…} to something that does not exist",
		Text:    "Nothing is turned into an empty text behind your back. The nearest name that exists is offered.",
		Mistake: `env.A = "x ${db-nam} y"`,
		Mended:  `env.A = "x ${db-name} y"`,
		Find:    resolverFinds,
	}, {
		Name: "reference-circular", Severity: Error, Needs: Files,
		Title:   "references in a circle",
		Text:    "Values that stand for each other have none. The circle is named in full.",
		Mistake: "[let]\na = \"${b}\"\nb = \"${c}\"\nc = \"x${a}\"",
		Mended:  "[let]\na = \"${b}\"\nb = \"${c}\"\nc = \"tides\"",
		Find:    resolverFinds,
	}, {
		Name: acceptUnused, Severity: Warning, Needs: Files, Mends: true, Rests: Uses,
		Title:   "an accepted finding that no longer exists",
		Text:    "The next one of its kind would pass without a word.",
		Mistake: `port-wide-open = "the router lets nothing in"    # and no port is`,
		Mended:  `# taken out`,
		Find:    func(*Input) {}, // looks at what the others have found, once they have
	},
}
