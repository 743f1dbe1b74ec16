// Package provenance writes and checks the signed statement of how an artifact was built: an
// in-toto Statement v1 with a SLSA provenance v1 predicate, in a DSSE envelope signed with Ed25519.
//
//	statement, err := provenance.Statement(content, facts)
//	envelope, err := provenance.Sign(ctx, key, statement)
//	statement, err = provenance.Verify(ctx, envelope, publicKey)
//
// Nothing here needs the service: Verify works from a file and a public key.
package provenance

import (
	"context"
	"crypto"
	"crypto/ed25519"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"errors"
	"time"

	slsa "github.com/in-toto/attestation/go/predicates/provenance/v1"
	intoto "github.com/in-toto/attestation/go/v1"
	"github.com/secure-systems-lab/go-securesystemslib/dsse"
	"google.golang.org/protobuf/encoding/protojson"
	"google.golang.org/protobuf/types/known/structpb"
	"google.golang.org/protobuf/types/known/timestamppb"

	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/fault"
)

const (
	payloadType   = "application/vnd.in-toto+json"
	predicateType = "https://slsa.dev/provenance/v1"
	// BuildType names what the external parameters mean; docs/provenance.md describes it.
	BuildType = "https://oskeld.dev/build/v1"
)

// Input is something that the build took in: a source at a commit, an artifact of a store.
type Input struct {
	Name   string // people's name for it, such as "heath/nectar@1.2.0#nectar.tar.gz"
	URI    string
	Digest map[string]string // by algorithm: "gitCommit", "sha256"
}

// Facts are what the service saw of the build.
type Facts struct {
	Service     string // its address, the builder
	Build       string // "hivebook/57"
	Pipeline    string
	File        string // of the pipeline, in the source
	Ref         string // as asked for
	Branch, Tag string
	StartedBy   string
	Version     string
	Stages      []Stage
	Inputs      []Input
	Complete    bool // false when steps could reach other networks: inputs may be missing
	Start, End  time.Time
}

// Stage is a stage run with the agent it ran on.
type Stage struct {
	Name  string
	Agent string
	Facts map[string]string
}

// Statement makes the statement about a content's files.
func Statement(content artifact.Content, f Facts) (*intoto.Statement, error) {
	s := &intoto.Statement{Type: intoto.StatementTypeUri, PredicateType: predicateType}
	for _, file := range content.Files {
		s.Subject = append(s.Subject, &intoto.ResourceDescriptor{Name: file.Path, Digest: map[string]string{"sha256": string(file.Digest)}})
	}
	external, err := structpb.NewStruct(map[string]any{
		"pipeline": f.Pipeline, "file": f.File, "ref": f.Ref, "branch": f.Branch, "tag": f.Tag,
	})
	if err != nil {
		return nil, err
	}
	stages := make([]any, len(f.Stages))
	for i, st := range f.Stages {
		agentFacts := map[string]any{}
		for k, v := range st.Facts {
			agentFacts[k] = v
		}
		stages[i] = map[string]any{"stage": st.Name, "agent": st.Agent, "facts": agentFacts}
	}
	internal, err := structpb.NewStruct(map[string]any{
		"startedBy": f.StartedBy, "version": f.Version, "stages": stages, "inputsComplete": f.Complete,
	})
	if err != nil {
		return nil, err
	}
	p := &slsa.Provenance{
		BuildDefinition: &slsa.BuildDefinition{BuildType: BuildType, ExternalParameters: external, InternalParameters: internal},
		RunDetails: &slsa.RunDetails{
			Builder: &slsa.Builder{Id: f.Service},
			Metadata: &slsa.BuildMetadata{InvocationId: f.Build,
				StartedOn: timestamppb.New(f.Start), FinishedOn: timestamppb.New(f.End)},
		},
	}
	for _, in := range f.Inputs {
		p.BuildDefinition.ResolvedDependencies = append(p.BuildDefinition.ResolvedDependencies,
			&intoto.ResourceDescriptor{Name: in.Name, Uri: in.URI, Digest: in.Digest})
	}
	text, err := protojson.Marshal(p)
	if err != nil {
		return nil, err
	}
	s.Predicate = &structpb.Struct{}
	if err := protojson.Unmarshal(text, s.Predicate); err != nil {
		return nil, err
	}
	return s, s.Validate()
}

// Sign puts a statement into a signed envelope, as JSON.
func Sign(ctx context.Context, key ed25519.PrivateKey, s *intoto.Statement) ([]byte, error) {
	payload, err := protojson.Marshal(s)
	if err != nil {
		return nil, err
	}
	signer, err := dsse.NewEnvelopeSigner(signerVerifier{private: key, public: key.Public().(ed25519.PublicKey)})
	if err != nil {
		return nil, err
	}
	envelope, err := signer.SignPayload(ctx, payloadType, payload)
	if err != nil {
		return nil, err
	}
	return json.MarshalIndent(envelope, "", "  ")
}

// Verify checks an envelope's signature and gives its statement. Errors are of kind refused or
// invalid.
func Verify(ctx context.Context, envelope []byte, key ed25519.PublicKey) (*intoto.Statement, error) {
	var e dsse.Envelope
	if err := json.Unmarshal(envelope, &e); err != nil {
		return nil, fault.Invalid("the statement is not a DSSE envelope").Because(err)
	}
	if e.PayloadType != payloadType {
		return nil, fault.Invalid("the envelope holds %q, not an in-toto statement", e.PayloadType)
	}
	verifier, err := dsse.NewEnvelopeVerifier(signerVerifier{public: key})
	if err != nil {
		return nil, err
	}
	if _, err := verifier.Verify(ctx, &e); err != nil {
		return nil, fault.Refused("the signature does not fit the statement and the key").Because(err).
			Hint("take the public key of the service that built it: oskeld verify --key FILE")
	}
	payload, err := e.DecodeB64Payload()
	if err != nil {
		return nil, fault.Invalid("the envelope's payload is not base64").Because(err)
	}
	s := &intoto.Statement{}
	if err := protojson.Unmarshal(payload, s); err != nil {
		return nil, fault.Invalid("the envelope holds no in-toto statement").Because(err)
	}
	if err := s.Validate(); err != nil {
		return nil, fault.Invalid("the statement is not whole: %v", err)
	}
	return s, nil
}

// Covers finds the subject with that digest; "" when the statement is about other files.
func Covers(s *intoto.Statement, d artifact.Digest) (name string, ok bool) {
	for _, subject := range s.Subject {
		if subject.Digest["sha256"] == string(d) {
			return subject.Name, true
		}
	}
	return "", false
}

// Predicate gives the SLSA provenance of a statement.
func Predicate(s *intoto.Statement) (*slsa.Provenance, error) {
	if s.PredicateType != predicateType {
		return nil, fault.Invalid("the statement is %q, not SLSA provenance v1", s.PredicateType)
	}
	text, err := protojson.Marshal(s.Predicate)
	if err != nil {
		return nil, err
	}
	p := &slsa.Provenance{}
	if err := protojson.Unmarshal(text, p); err != nil {
		return nil, fault.Invalid("the predicate is not SLSA provenance v1").Because(err)
	}
	return p, nil
}

// KeyID names a public key: the first 16 hexadecimal digits of the SHA-256 of its PKIX form.
func KeyID(key ed25519.PublicKey) string {
	der, err := x509.MarshalPKIXPublicKey(key)
	if err != nil {
		return ""
	}
	sum := sha256.Sum256(der)
	return hex.EncodeToString(sum[:8])
}

// EncodeKey gives a public key as PEM (PKIX, RFC 8410).
func EncodeKey(key ed25519.PublicKey) ([]byte, error) {
	der, err := x509.MarshalPKIXPublicKey(key)
	if err != nil {
		return nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der}), nil
}

// DecodeKey reads a public key from PEM.
func DecodeKey(text []byte) (ed25519.PublicKey, error) {
	block, _ := pem.Decode(text)
	if block == nil || block.Type != "PUBLIC KEY" {
		return nil, fault.Invalid("the file holds no public key").Hint("oskeld status --key prints the service's")
	}
	key, err := x509.ParsePKIXPublicKey(block.Bytes)
	if err != nil {
		return nil, fault.Invalid("the public key cannot be read: %v", err)
	}
	ed, ok := key.(ed25519.PublicKey)
	if !ok {
		return nil, fault.Invalid("the public key is not Ed25519")
	}
	return ed, nil
}

// signerVerifier is the key as the envelope library wants it.
type signerVerifier struct {
	private ed25519.PrivateKey
	public  ed25519.PublicKey
}

func (k signerVerifier) Sign(_ context.Context, data []byte) ([]byte, error) {
	return ed25519.Sign(k.private, data), nil
}

func (k signerVerifier) Verify(_ context.Context, data, sig []byte) error {
	if !ed25519.Verify(k.public, data, sig) {
		return errors.New("signature does not fit")
	}
	return nil
}

func (k signerVerifier) KeyID() (string, error)   { return KeyID(k.public), nil }
func (k signerVerifier) Public() crypto.PublicKey { return k.public }
