package cli

import (
	"context"
	"errors"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ironbark/internal/estate"
	"ironbark/internal/plainfile"
	"ironbark/internal/sshkey"
	"ironbark/internal/work"
)

func keyPath(w *work.Work, name string) string {
	return filepath.Join(w.Folder.Dir, work.StateDir, "keys", name)
}

// publicKeyIn reads the public key in a file that --public-key-file names.
func publicKeyIn(path string) (string, error) {
	data, err := plainfile.Read(path, plainfile.Small)
	if err != nil {
		return "", wrong("--public-key-file: %v", err)
	}
	line, err := sshkey.ParsePublic(data)
	if err != nil {
		return "", wrong("--public-key-file %s: %v", path, err)
	}
	return line, nil
}

func (a *app) addKeyCommand() *cobra.Command {
	var public, kind string
	in := &nounInput{now: a.now}
	opt := &editing{}
	c := &cobra.Command{
		Use: "key NAME", Short: "Make a key pair, or take in a public key",
		Long: "Make a key pair. The private half stays in .ironbark/keys/NAME, which only you can read; it is\n" +
			"never sent to a site and never written over. With --public-key-file FILE a public key that exists is taken in.",
		Example: "  ironbark add key ops",
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			if len(args) != 1 {
				return usage("add key takes one name")
			}
			name := args[0]
			old, err := w.Folder.Read()
			if err != nil {
				return err
			}
			line := ""
			if public != "" {
				if line, err = publicKeyIn(public); err != nil {
					return err
				}
			} else {
				if line, opt.before, err = newKey(w, name, sshkey.Kind(kind)); err != nil {
					return err
				}
			}
			value, end := estate.Word(line), entry{}
			if err := end.until(in); err != nil {
				return err
			}
			if len(end) > 0 {
				value = estate.Mapping(append([]estate.Field{{Key: "public", Value: value}}, end...)...)
			}
			files, err := old.AddNoun([]string{"keys"}, name, value)
			if err != nil {
				return err
			}
			if err := a.edit(ctx, w, old, files, "added key "+name, opt); err != nil || opt.draft || a.json {
				return err
			}
			if first, err := old.Estate(); err == nil && len(first.Machines) == 0 {
				a.print.Note("next: ironbark add machine NAME --key %s", name)
			}
			return nil
		}),
	}
	c.Flags().StringVar(&public, "public-key-file", "", "a file with the public key to take in")
	c.Flags().StringVar(&in.until, "until", "", "nobody logs in with it from this time on, or after this length from now")
	c.Flags().StringVar(&kind, "algorithm", string(sshkey.Ed25519), "ed25519, rsa-3072 or rsa-4096")
	return opt.flags(c)
}

// changeKeyCommand gives a key another end. The key itself is changed by putting another one into its machines.
func (a *app) changeKeyCommand() *cobra.Command {
	in, opt := &nounInput{now: a.now}, &editing{}
	c := &cobra.Command{
		Use: "key NAME", Short: "Change when a key ends", Example: "  ironbark change key ops --until 90d", ValidArgsFunction: a.completeNouns("key"),
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			old, e, err := readBoth(w)
			if err != nil {
				return err
			}
			if len(args) != 1 {
				return usage("change key takes one name")
			}
			i := slices.IndexFunc(e.Keys, func(k estate.Key) bool { return k.Name == args[0] })
			if i < 0 {
				return unknownName("key", args[0], e.NamesOf("key"))
			}
			if in.until == "" {
				return usage("say when it ends: --until TIME, or --until none; another key is another name: ironbark add key, change machine … --key")
			}
			value, end := estate.Word(e.Keys[i].Public), entry{}
			if err := end.until(in); err != nil {
				return err
			}
			if in.until != none {
				value = estate.Mapping(append([]estate.Field{{Key: "public", Value: value}}, end...)...)
			}
			files, err := old.Alter([]string{"keys"}, []estate.Field{{Key: args[0], Value: value}})
			if err != nil {
				return err
			}
			return a.edit(ctx, w, old, files, "changed key "+args[0], opt)
		}),
	}
	c.Flags().StringVar(&in.until, "until", "", "when it ends: a time, or a length from now; none: it has no end")
	a.completeNounFlags(c)
	return opt.flags(c)
}

func (a *app) keyCommand() *cobra.Command {
	key := &cobra.Command{
		Use: "key", Short: "Write a key's private half in a form that another client takes",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return c.Help()
			}
			return unknownKind(c, args[0])
		},
	}
	var form, out string
	var locked bool
	write := &cobra.Command{
		Use: "write NAME --as FORM --to FILE", Short: "Write a key's private half to a new file that only you can read",
		Long: "Write a key's private half to a new file that only you can read: as openssh, as pkcs8 (PEM, RFC 5958), or as\n" +
			"ppk (version 3). With --lock it is locked with a passphrase, which is asked for. Nothing is written over.",
		Example: "  ironbark key write ops --as ppk --to ops.ppk", ValidArgsFunction: a.completeNouns("key"),
		RunE: a.with(func(_ context.Context, w *work.Work, args []string) error {
			if len(args) != 1 || out == "" {
				return usage("key write takes a name, and --to FILE")
			}
			pair, err := sshkey.Load(keyPath(w, args[0]))
			switch {
			case errors.Is(err, fs.ErrNotExist):
				return wrong("the private half of key %s is not here: there is no %s", args[0], keyPath(w, args[0]))
			case err != nil:
				return err
			}
			pass := ""
			if locked {
				if pass, err = a.secret("Passphrase: "); err != nil {
					return err
				}
				if pass == "" {
					return wrong("the passphrase is empty")
				}
			}
			data, err := pair.Export(sshkey.Form(form), pass)
			if err != nil {
				return usage("%v", err)
			}
			if err := sshkey.WriteNew(out, data); err != nil {
				if errors.Is(err, fs.ErrExist) {
					return wrong("%s is there already and is not written over", out)
				}
				return &work.UnwritableError{Path: out, Why: err}
			}
			a.print.Line("wrote the private half of %s to %s as %s; only you can read it", args[0], out, form)
			if !strings.Contains(form, "pkcs8") && !locked {
				a.print.Note("note: it is not locked; --lock locks it with a passphrase")
			}
			return nil
		}),
	}
	write.Flags().StringVar(&form, "as", string(sshkey.OpenSSH), "openssh, pkcs8 or ppk")
	write.Flags().StringVar(&out, "to", "", "the file to make")
	write.Flags().BoolVar(&locked, "lock", false, "lock it with a passphrase")
	key.AddCommand(write)
	return key
}
