// Package renamed knows what keys, flags and values were called in earlier versions, so that
// records of those versions are still read and whoever types an old name is told the new one.
//
// Now tells the present name. JSON gives a stored document under present names. Nothing is ever
// written under an old one.
package renamed

import (
	"bytes"
	"encoding/json"
	"regexp"
	"strings"
)

// keys of plan files and, with hyphens, flags that were called otherwise.
var keys = map[string]string{
	"leadIn": "warmUp", "settled": "steady", "within": "margin", "fill": "precondition",
	"memory": "memtable", "growth": "levelRatio", "first": "compactAt", "wrong": "falsePositives",
}

// flags that were called otherwise, where that does not follow from the key; some by several
// commands, each of which has one of the present names.
var flags = map[string][]string{
	"lead-in": {"warm-up"}, "growth": {"level-ratio"}, "first": {"compact-at"}, "wrong": {"false-positives"},
	"within": {"margin", "timeout"}, "keep": {"name"}, "as": {"match", "name"}, "with": {"set"}, "to": {"designs"}, "report": {"html"},
	"gate": {"fail-if"}, "withdraw": {"revoke"}, "baseline": {"measure-members"},
	"delay": {"link-delay"}, "rate": {"link-rate"}, "limit": {"session-limit"}, "block": {"logical-block"},
}

// commands that were called otherwise, below the same group.
var commands = map[string]string{
	"forget": "remove", "delete": "remove", "keep": "add", "strike": "inject", "foretell": "predict",
	"agreed": "session", "mattered": "effects", "judge": "rejudge",
}

// logs are the values of the key log of a load of stores.
var logs = map[string]string{"gathered": "asynchronous", "each": "each-put", "group": "group-commit"}

// Now is what a key of a file is called now; "" where it was never called otherwise.
func Now(key string) string { return keys[key] }

// Command is what a command of a group is called now; "" where it was never called otherwise.
func Command(name string) string { return commands[name] }

// Flags is what a flag, without its hyphens, may be called now; nothing where it was never called
// otherwise.
func Flags(name string) []string {
	if now := flags[name]; now != nil {
		return now
	}
	if now := keys[name]; now != "" {
		return []string{now}
	}
	return nil
}

// ofLoad finds keys of loads that were called otherwise, and ofStore those of a load of stores,
// whose names other things have as well: they count in a line that says it is one.
var (
	ofLoad  = regexp.MustCompile(`\b(leadIn|settled|within):`)
	ofStore = regexp.MustCompile(`\b(memory|growth|first|wrong):`)
	ofLog   = regexp.MustCompile(`\blog: *(gathered|each|group)([,}\s]|$)`)
)

// Sheet is the text of a stored sheet of any version with present names for the keys of its
// loads. What a person has in a file is not translated but told the present names.
func Sheet(text string) string {
	key := func(found string) string { return keys[strings.TrimSuffix(found, ":")] + ":" }
	var now strings.Builder
	for line := range strings.Lines(text) {
		if code, comment, _ := strings.Cut(line, "#"); comment == "" || strings.TrimSpace(code) != "" {
			line = ofLoad.ReplaceAllStringFunc(line, key)
			if strings.Contains(line, "stores:") {
				line = ofStore.ReplaceAllStringFunc(line, key)
				line = ofLog.ReplaceAllStringFunc(line, func(found string) string {
					parts := ofLog.FindStringSubmatch(found)
					return "log: " + logs[parts[1]] + parts[2]
				})
			}
		}
		now.WriteString(line)
	}
	return now.String()
}

// old are signs of a document of an earlier version. A quote within a text of JSON has a
// backslash before it, so each can only stand where a key or a value begins.
var old = [][]byte{
	[]byte(`"leadIn`), []byte(`"standing":`), []byte(`"tangled":`), []byte(`"astray":`), []byte(`"settled"`), []byte(`"within":`), []byte(`"fill":`), []byte(`"memoryBytes":`),
	[]byte(`"growth":`), []byte(`"first":`), []byte(`"wrongShare":`), []byte(`"log":"each"`), []byte(`"log":"group"`), []byte(`"log":"gathered"`),
	[]byte(`"field":"log"`), []byte(`"field":"memory"`), []byte(`"field":"growth"`), []byte(`"field":"first"`), []byte(`"field":"wrong"`), []byte(`"field":"within"`),
}

// JSON is a document of any version under present names; the very text where it has no old
// ones, or is no JSON.
func JSON(text []byte) []byte {
	found := false
	for _, sign := range old {
		found = found || bytes.Contains(text, sign)
	}
	if !found {
		return text
	}
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	var document any
	if d.Decode(&document) != nil {
		return text
	}
	translated, err := json.Marshal(translate(document, ""))
	if err != nil {
		return text
	}
	return translated
}

// translate renames what stands in a value that itself stands under a key.
func translate(value any, under string) any {
	switch v := value.(type) {
	case []any:
		for i := range v {
			v[i] = translate(v[i], under)
		}
	case map[string]any:
		inner := make(map[string]any, len(v))
		for key, of := range v {
			inner[now(key, of, under, v)] = translate(of, key)
		}
		change(inner, under)
		return inner
	}
	return value
}

// now is what a key is called now that stands in an object under a key.
func now(key string, value any, under string, object map[string]any) string {
	_, truth := value.(bool)
	switch key {
	case "leadIn":
		return "warmUp"
	case "leadInSeconds":
		return "warmUpSeconds"
	case "tangled":
		return "correlated"
	case "astray":
		return "outlier"
	case "standing":
		if of, _ := value.(string); of == "meets" || of == "falls short" || of == "not measured" || of == "not shown" && under != "confronted" {
			return "outcome"
		}
		return "state"
	case "settled":
		if truth {
			return "steady"
		}
	case "within":
		if !truth { // that of a prediction is whether it lies inside
			return "margin"
		}
	case "fill":
		if _, stage := object["load"]; stage && truth {
			return "preconditioning"
		} else if stage {
			return "precondition"
		}
	}
	if _, store := object["requests"]; store && under == "stores" {
		switch key {
		case "memoryBytes":
			return "memtableBytes"
		case "growth":
			return "levelRatio"
		case "first":
			return "compactAt"
		case "wrongShare":
			return "falsePositives"
		}
	}
	return key
}

// change puts present values in the place of old ones, in an object under a key whose own keys
// are present ones.
func change(object map[string]any, under string) {
	text := func(key string) string { s, _ := object[key].(string); return s }
	if under == "phases" {
		object["state"] = strings.Replace(text("state"), "settled", "steady", 1)
	}
	if text("ending") == "settled" {
		object["ending"] = "steady"
	}
	if now := logs[text("log")]; now != "" && under == "stores" {
		object["log"] = now
	}
	if field := text("field"); field != "" {
		if field == "log" {
			if now := logs[text("value")]; now != "" {
				object["value"] = now
			}
			if values, list := object["values"].([]any); list {
				for i, value := range values {
					if of, _ := value.(string); logs[of] != "" {
						values[i] = logs[of]
					}
				}
			}
		}
		if now := keys[field]; now != "" {
			object["field"] = now
		}
	}
}
