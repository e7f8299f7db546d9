package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"reflect"
	"slices"
	"time"

	"github.com/google/jsonschema-go/jsonschema"
	"github.com/spf13/cobra"

	"ironbark/internal/cli/view"
	"ironbark/internal/estate"
	"ironbark/internal/opening"
	"ironbark/internal/sentence"
)

// The documents that commands print with --json. Each has a schema, made of its type.
type (
	versionDoc struct {
		Version string `json:"version"`
		Commit  string `json:"commit"`
		Go      string `json:"go"`
	}
	powerDoc struct {
		Machines []powered `json:"machines"`
	}
	faultsDoc struct {
		Faults []string `json:"faults"`
	}
	entryDoc struct {
		Seq    int64     `json:"seq"`
		At     time.Time `json:"at"`
		Person string    `json:"person"`
		Action string    `json:"action"`
		Text   string    `json:"text"`
		Hash   string    `json:"hash"`
	}
	journalDoc struct {
		Whole   bool       `json:"whole"`
		Breaks  []string   `json:"breaks"`
		Entries []entryDoc `json:"entries"`
	}
	acknowledgedDoc struct {
		Acknowledged  []string   `json:"acknowledged"`
		ClockAccepted *bool      `json:"clockAccepted,omitempty"`
		Now           *time.Time `json:"now,omitempty"`
	}
	bootLogDoc struct {
		Machine string `json:"machine"`
		Log     string `json:"log"`
	}
	resourcesDoc struct {
		Resources []view.ResourceDoc `json:"resources"`
	}
	personDoc struct {
		Name   string     `json:"name"`
		Groups []string   `json:"groups"`
		Keys   int        `json:"keys"`
		Until  *time.Time `json:"until"`
	}
	peopleDoc struct {
		People []personDoc `json:"people"`
	}
	requirementDoc struct {
		What   string `json:"what"`
		There  bool   `json:"there"`
		Why    string `json:"why,omitempty"`
		Remedy string `json:"remedy,omitempty"`
		// Optional says that light machines do without it.
		Optional bool `json:"optional,omitempty"`
	}
	requirementsDoc struct {
		Requirements []requirementDoc `json:"requirements"`
	}
	packetDoc struct {
		Source  string `json:"source"`
		Address string `json:"address"`
		Service string `json:"service"`
		Open    bool   `json:"open"`
		Machine string `json:"machine"`
		Reason  string `json:"reason"`
		By      string `json:"by"`
		Sees    string `json:"sees"` // an answer, a refusal or silence
		Silent  string `json:"silent,omitempty"`
	}
	probesDoc struct {
		Probes []packetDoc `json:"probes"`
	}
	brokenDoc struct {
		Sentence string `json:"sentence"`
		Source   string `json:"source"`
		Service  string `json:"service"`
		Target   string `json:"target"`
	}
	findingsDoc struct {
		Findings []view.FindingDoc `json:"findings"`
		Broken   []brokenDoc       `json:"broken"`
		Score    view.ScoreDoc     `json:"score"`
	}
	openingsDoc struct {
		At       time.Time        `json:"at"`
		Openings []openingDoc     `json:"openings"`
		Edits    []editRequestDoc `json:"edits"`
	}
	openedDoc struct {
		openingDoc
		Notes []string  `json:"notes,omitempty"`
		Doors []doorDoc `json:"doors"`
	}
	doorDoc struct {
		Door    string `json:"door"`
		Via     string `json:"via,omitempty"`
		Address string `json:"address"`
		Service string `json:"service"`          // that arrives
		Called  string `json:"called,omitempty"` // where it is another
	}
	closedDoc struct {
		Closed   []openingDoc       `json:"closed"`
		Sessions *[]view.SessionDoc `json:"sessions"`          // that it ended; null where the site does not know its sessions
		Outward  []view.OutletDoc   `json:"outward,omitempty"` // what the machines may still call of those whom it let in
	}
)

// resultDoc is what a command prints that has no document of its own, or that failed.
type resultDoc struct {
	Outcome string          `json:"outcome"` // done, failed, wrong, no, unconfirmed, changed, not-permitted
	Status  int             `json:"status"`  // the exit status
	Told    []string        `json:"told"`    // what is printed for people
	Review  *view.ReviewDoc `json:"review,omitempty"`
	Error   *errorDoc       `json:"error,omitempty"`
}

// errorDoc is an error with its facts.
type errorDoc struct {
	Message  string       `json:"message"`
	Remedy   string       `json:"remedy,omitempty"`
	Problems []problemDoc `json:"problems,omitempty"` // in files or words
	Reasons  []reasonDoc  `json:"reasons,omitempty"`  // of a refusal
}

type problemDoc struct {
	Problem string `json:"problem"`
	Remedy  string `json:"remedy,omitempty"`
	File    string `json:"file,omitempty"`
	Line    int    `json:"line,omitempty"`
	Column  int    `json:"column,omitempty"`
	Text    string `json:"text,omitempty"`
}

type reasonDoc struct {
	Reason string `json:"reason"`
	Remedy string `json:"remedy,omitempty"`
}

var outcomes = [...]string{"done", "failed", "wrong", "no", "unconfirmed", "changed", "not-permitted"}

// result makes the document of a command that printed none.
func (a *app) result(err error, status int) resultDoc {
	doc := resultDoc{Outcome: "failed", Status: status, Told: append([]string{}, *a.print.Told...), Review: a.review}
	if status >= 0 && status < len(outcomes) {
		doc.Outcome = outcomes[status]
	}
	if err == nil || errors.Is(err, errNo) || errors.Is(err, errUnconfirmed) || errors.Is(err, errFailed) {
		return doc
	}
	doc.Error = &errorDoc{Message: err.Error()}
	doc.Error.Remedy = view.Advice(adviceOf(err))
	put := func(e *sentence.Error) {
		doc.Error.Problems = append(doc.Error.Problems, problemDoc{e.Problem, view.Advice(e.Remedy), e.At.File, e.At.Line, e.At.Col, e.Line})
	}
	if many, ok := errors.AsType[sentence.Errors](err); ok {
		for _, e := range many {
			put(e)
		}
	} else if one, ok := errors.AsType[*sentence.Error](err); ok {
		put(one)
	}
	if refusal, ok := errors.AsType[*opening.RefusalError](err); ok {
		for _, r := range refusal.Reasons {
			doc.Error.Reasons = append(doc.Error.Reasons, reasonDoc{r.What, view.Advice(r.Remedy)})
		}
	}
	return doc
}

// documents are the types of the documents, by the names by which schema tells them.
var documents = map[string]reflect.Type{
	"acknowledge": reflect.TypeFor[acknowledgedDoc](), "answer": reflect.TypeFor[view.AnswerDoc](), "line": reflect.TypeFor[view.LineDoc](), "peer": reflect.TypeFor[peerDoc](), "front": reflect.TypeFor[view.FrontDoc](), "backup": reflect.TypeFor[backupDoc](), "estates": reflect.TypeFor[view.EstatesDoc](), "bastion": reflect.TypeFor[bastionDoc](), "boot-log": reflect.TypeFor[bootLogDoc](), "closed": reflect.TypeFor[closedDoc](),
	"could": reflect.TypeFor[couldDoc](), "cost": reflect.TypeFor[view.CostDoc](), "drift": reflect.TypeFor[view.DriftDoc](), "expectations": reflect.TypeFor[expectationsDoc](), "faults": reflect.TypeFor[faultsDoc](), "findings": reflect.TypeFor[findingsDoc](), "forwarding": reflect.TypeFor[view.ForwardingDoc](),
	"gateway":  reflect.TypeFor[gatewayDoc](),
	"loopback": reflect.TypeFor[loopbackDoc](), "journal": reflect.TypeFor[journalDoc](), "machine": reflect.TypeFor[view.MachineDoc](), "map": reflect.TypeFor[view.MapDoc](), "offer": reflect.TypeFor[view.OfferDoc](),
	"opened": reflect.TypeFor[openedDoc](), "opening": reflect.TypeFor[openingDoc](), "openings": reflect.TypeFor[openingsDoc](), "paths": reflect.TypeFor[view.PathsDoc](), "person": reflect.TypeFor[personRightsDoc](), "sentences": reflect.TypeFor[sentencesDoc](), "words": reflect.TypeFor[wordsDoc](), "people": reflect.TypeFor[peopleDoc](),
	"power": reflect.TypeFor[powerDoc](), "probes": reflect.TypeFor[probesDoc](), "quota": reflect.TypeFor[view.QuotaDoc](), "reach": reflect.TypeFor[view.ReachDoc](), "calls": reflect.TypeFor[view.CallsDoc](),
	"requirements": reflect.TypeFor[requirementsDoc](), "resource": reflect.TypeFor[view.ResourceDoc](), "resources": reflect.TypeFor[resourcesDoc](), "result": reflect.TypeFor[resultDoc](),
	"review": reflect.TypeFor[view.ReviewDoc](), "since": reflect.TypeFor[view.IntervalsDoc](), "status": reflect.TypeFor[view.StatusDoc](), "tables": reflect.TypeFor[view.TablesDoc](), "recipients": reflect.TypeFor[view.RecipientsDoc](), "anchored": reflect.TypeFor[anchoredDoc](), "scores": reflect.TypeFor[view.ScoresDoc](), "permits": reflect.TypeFor[view.PermitsDoc](), "timeline": reflect.TypeFor[view.TimelineDoc](), "used": reflect.TypeFor[view.UsedDoc](), "version": reflect.TypeFor[versionDoc](),
}

func (a *app) schemaCommand() *cobra.Command {
	return &cobra.Command{
		Use: "schema [NAME]", Short: "Print the JSON Schema of a document, or of estate.yaml", Args: cobra.ArbitraryArgs,
		Long: "Print a JSON Schema (draft 2020-12): of estate.yaml, for editors, or of a document that commands print with --json.\n" +
			"schema list names them.",
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return slices.Sorted(maps.Keys(documents)), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(_ *cobra.Command, args []string) error {
			switch {
			case len(args) > 1:
				return usage("schema takes one name")
			case len(args) == 0:
				return a.print.JSON(json.RawMessage(estate.Schema()))
			case args[0] == "list":
				for _, name := range slices.Sorted(maps.Keys(documents)) {
					a.print.Line("%s", name)
				}
				return nil
			}
			schema, err := schemaOf(args[0])
			if err != nil {
				return err
			}
			return a.print.JSON(schema)
		},
	}
}

// schemaOf makes the schema of a document.
func schemaOf(name string) (*jsonschema.Schema, error) {
	t, known := documents[name]
	if !known {
		return nil, unknownName("document", name, slices.Sorted(maps.Keys(documents)))
	}
	s, err := jsonschema.ForType(t, &jsonschema.ForOptions{TypeSchemas: map[reflect.Type]*jsonschema.Schema{
		reflect.TypeFor[netip.Addr](): {Type: "string"}, reflect.TypeFor[netip.Prefix](): {Type: "string"},
	}})
	if err != nil {
		return nil, fmt.Errorf("the schema of %s: %w", name, err)
	}
	s.Schema = "https://json-schema.org/draft/2020-12/schema"
	s.Title = "the document “" + name + "” of ironbark"
	return s, nil
}
