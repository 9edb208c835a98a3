package cli

import (
	"bytes"
	"context"
	"crypto"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"time"

	"github.com/digitorus/timestamp"
	"github.com/urfave/cli/v3"

	"vergekeep/client"
	"vergekeep/client/gen"
	"vergekeep/core/proof"
)

func (a *app) archiveKey() *cli.Command {
	return &cli.Command{
		Name: "key", Usage: "make a key to sign with; keep it where the service is not", ArgsUsage: "FILE",
		Description: example("vergekeep archive key ./signing.pem") + "\n\nThe public half, which goes to whoever verifies, is written beside it as FILE.pub.",
		Action: func(_ context.Context, cmd *cli.Command) error {
			if err := exactly(cmd, 1, "a file"); err != nil {
				return err
			}
			public, private, err := ed25519.GenerateKey(rand.Reader)
			if err != nil {
				return err
			}
			secret, err := x509.MarshalPKCS8PrivateKey(private)
			if err != nil {
				return err
			}
			open, err := x509.MarshalPKIXPublicKey(public)
			if err != nil {
				return err
			}
			path := cmd.Args().First()
			if err := writeNew(path, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secret}), 0o600); err != nil {
				return err
			}
			return writeNew(path+".pub", pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: open}), 0o644)
		},
	}
}

// writeNew writes a file that must not exist.
func writeNew(path string, data []byte, mode os.FileMode) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, mode)
	if errors.Is(err, os.ErrExist) {
		return fmt.Errorf("%s exists already; name a new file", path)
	}
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	return errors.Join(err, f.Close())
}

func pemKey(path, kind string) ([]byte, error) {
	text, err := readFile(path)
	if err != nil {
		return nil, err
	}
	block, _ := pem.Decode([]byte(text))
	if block == nil || block.Type != kind {
		return nil, fmt.Errorf("%s holds no %s in PEM; 'vergekeep archive key' makes one", path, kind)
	}
	return block.Bytes, nil
}

func (a *app) archiveSign() *cli.Command {
	return &cli.Command{
		Name: "sign", Usage: "sign the ends of all chains, with a key that the service never sees", ArgsUsage: "FILE",
		Description: example("vergekeep archive sign ./heads-2026-11-23.json --key ./signing.pem", "vergekeep archive sign ./heads.json --key ./signing.pem --time-stamp https://tsa.example/stamp",
			"vergekeep archive sign ./heads.json --key ./signing.pem --send vault") +
			"\n\nOne's own signature proves no time. A time-stamping authority (RFC 3161) proves it, or somebody else to whom the file is sent the same day.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "key", Required: true, Usage: "the key, an Ed25519 private key in PEM (PKCS #8)"},
			&cli.StringFlag{Name: "send", Usage: "put the signed heads into this copy too; see 'vergekeep archive copy'"},
			&cli.StringFlag{Name: "time-stamp", Usage: "address of a time-stamping authority; it gets the signature's hash and nothing else"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if err := exactly(cmd, 1, "a file"); err != nil {
				return err
			}
			der, err := pemKey(cmd.String("key"), "PRIVATE KEY")
			if err != nil {
				return err
			}
			parsed, err := x509.ParsePKCS8PrivateKey(der)
			key, ok := parsed.(ed25519.PrivateKey)
			if err != nil || !ok {
				return fmt.Errorf("%s holds no Ed25519 key", cmd.String("key"))
			}
			c, err := a.connect(cmd)
			if err != nil {
				return err
			}
			r, err := c.GetHeadsWithResponse(ctx)
			if err := client.Check(r, err); err != nil {
				return err
			}
			var heads proof.Heads
			if err := json.Unmarshal(r.Body, &heads); err != nil {
				return err
			}
			signed, err := proof.Sign(heads, key)
			if err != nil {
				return err
			}
			if tsa := cmd.String("time-stamp"); tsa != "" {
				if signed.Stamp, err = stamp(ctx, tsa, signed.Signature); err != nil {
					return fmt.Errorf("the time stamp: %w", err)
				}
			}
			data, err := json.MarshalIndent(signed, "", "  ")
			if err != nil {
				return err
			}
			if err := writeNew(cmd.Args().First(), append(data, '\n'), 0o644); err != nil {
				return err
			}
			fmt.Fprintf(a.Err, "The ends of %s signed.\n", plural(len(heads.Heads), "chain"))
			if to := cmd.String("send"); to != "" {
				r, err := c.SendHeadsWithResponse(ctx, to, gen.SignedHeads{Name: "heads-signed-" + time.Now().UTC().Format("2006-01-02T150405Z"), Data: data})
				if err := client.Check(r, err); err != nil {
					return fmt.Errorf("they are signed, but could not be sent: %w", err)
				}
				fmt.Fprintf(a.Err, "Sent to %s.\n", to)
			}
			return nil
		},
	}
}

// stamp asks a time-stamping authority (RFC 3161, 3.4) for a token over a signature.
func stamp(ctx context.Context, address string, signature []byte) ([]byte, error) {
	query, err := timestamp.CreateRequest(bytes.NewReader(signature), &timestamp.RequestOptions{Hash: crypto.SHA256, Certificates: true})
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, address, bytes.NewReader(query))
	if err != nil {
		return nil, err
	}
	request.Header.Set("Content-Type", "application/timestamp-query")
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	answer, err := io.ReadAll(io.LimitReader(response.Body, 1<<20))
	if err != nil {
		return nil, err
	}
	if response.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("%s answered with status %d", address, response.StatusCode)
	}
	t, err := timestamp.ParseResponse(answer)
	if err != nil {
		return nil, err
	}
	return t.RawToken, stamped(t, signature)
}

// stamped says whether a token is over a signature.
func stamped(t *timestamp.Timestamp, signature []byte) error {
	sum := sha256.Sum256(signature)
	if t.HashAlgorithm != crypto.SHA256 || !bytes.Equal(t.HashedMessage, sum[:]) {
		return fmt.Errorf("%w: the time stamp is over something else", proof.ErrProof)
	}
	return nil
}

func (a *app) archiveProve() *cli.Command {
	return &cli.Command{
		Name: "prove", Usage: "write a file that convinces others of a revision", ArgsUsage: "REF FILE",
		Description: example("vergekeep archive prove hh-core-1@2 ./hh-core-1.proof") +
			"\n\nIt holds the whole text with its secrets. Together with signed heads it shows that this text was in the archive then, and that it\nand all that came after it was not altered since; docs/proof.md publishes the procedure.",
		Action: a.with(2, "a ref and a file", func(ctx context.Context, cmd *cli.Command, c *client.Client) error {
			r, err := c.GetProofWithResponse(ctx, &gen.GetProofParams{Ref: cmd.Args().First(), Zone: zone()})
			if err := client.Check(r, err); err != nil {
				return err
			}
			var indented bytes.Buffer
			if err := json.Indent(&indented, r.Body, "", "  "); err != nil {
				return err
			}
			return writeNew(cmd.Args().Get(1), append(indented.Bytes(), '\n'), 0o600)
		}),
	}
}

func (a *app) archiveVerify() *cli.Command {
	return &cli.Command{
		Name: "verify", Usage: "verify a proof; this takes no service", ArgsUsage: "PROOF",
		Description: example("vergekeep archive verify ./hh-core-1.proof --heads ./heads-2026-11-23.json --key ./signing.pem.pub"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "heads", Required: true, Usage: "the signed heads"},
			&cli.StringFlag{Name: "key", Required: true, Usage: "the public key of whoever signed"},
			&cli.StringFlag{Name: "authority", Usage: "certificates (PEM) that the time-stamping authority's must come from"},
			&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "write the text that was proved to this file"},
		},
		Action: a.verify,
	}
}

func (a *app) verify(_ context.Context, cmd *cli.Command) error {
	if err := exactly(cmd, 1, "a proof"); err != nil {
		return err
	}
	var p proof.Proof
	var signed proof.Signed
	for path, into := range map[string]any{cmd.Args().First(): &p, cmd.String("heads"): &signed} {
		text, err := readFile(path)
		if err == nil {
			err = json.Unmarshal([]byte(text), into)
		}
		if err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
	}
	der, err := pemKey(cmd.String("key"), "PUBLIC KEY")
	if err != nil {
		return err
	}
	parsed, err := x509.ParsePKIXPublicKey(der)
	key, ok := parsed.(ed25519.PublicKey)
	if err != nil || !ok {
		return fmt.Errorf("%s holds no Ed25519 key", cmd.String("key"))
	}
	heads, err := signed.Open(key)
	if err != nil {
		return err
	}
	shown, err := p.Against(heads)
	if err != nil {
		return err
	}
	if path := cmd.String("output"); path != "" {
		if err := writeNew(path, p.Text, 0o600); err != nil {
			return err
		}
	}
	fmt.Fprintf(a.Out, "Proved: %s (%d bytes) was in the archive, in force since %s by the service's clock.\nIt and %s after it were not altered since the heads were signed, %s by the signer's clock.\n",
		p.Name, len(p.Text), shown.Since.Format(time.RFC3339), plural(shown.Later, "revision"), shown.Signed.Format(time.RFC3339))
	if len(signed.Stamp) == 0 {
		fmt.Fprintln(a.Out, "No time-stamping authority vouches for that time.")
		return nil
	}
	t, err := timestamp.Parse(signed.Stamp)
	if err == nil {
		err = stamped(t, signed.Signature)
	}
	if err != nil {
		return fmt.Errorf("the time stamp: %w", err)
	}
	who := "an authority that shows no certificate"
	if len(t.Certificates) > 0 {
		who = t.Certificates[0].Subject.String()
	}
	if path := cmd.String("authority"); path != "" {
		if err := vouched(t, path); err != nil {
			return err
		}
		who += ", whose certificate comes from " + path
	} else {
		who += " (its certificate was compared with nothing; see --authority)"
	}
	fmt.Fprintf(a.Out, "The signature was there at %s, says %s.\n", t.Time.UTC().Format(time.RFC3339), who)
	return nil
}

// vouched says whether a time stamp's certificate comes from one of a file.
func vouched(t *timestamp.Timestamp, path string) error {
	text, err := readFile(path)
	if err != nil {
		return err
	}
	roots, others := x509.NewCertPool(), x509.NewCertPool()
	if !roots.AppendCertsFromPEM([]byte(text)) {
		return fmt.Errorf("%s holds no certificate in PEM", path)
	}
	for _, c := range t.Certificates {
		others.AddCert(c)
	}
	for _, c := range t.Certificates {
		if _, err := c.Verify(x509.VerifyOptions{Roots: roots, Intermediates: others, CurrentTime: t.Time, KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageTimeStamping}}); err == nil {
			return nil
		}
	}
	return fmt.Errorf("%w: the time stamp is of nobody that %s vouches for", proof.ErrProof, path)
}
