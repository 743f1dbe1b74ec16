package service

import (
	"context"
	"errors"
	"io"
	"os"
	"strings"
	"time"

	"oskeld.dev/oskeld/internal/blob"
	"oskeld.dev/oskeld/internal/core/artifact"
	"oskeld.dev/oskeld/internal/core/bundle"
	"oskeld.dev/oskeld/internal/core/fault"
	"oskeld.dev/oskeld/internal/core/view"
	"oskeld.dev/oskeld/internal/database"
)

// holdLength is how long a blob that was sent or found present is kept for who asked.
const holdLength = 24 * time.Hour

// holder is under which name an actor's uploads are kept. All agents that run a build share one,
// so that an upload goes on after the chain was handed out again.
func (a Actor) holder() string {
	switch {
	case a.Stage != nil:
		return "build " + a.Stage.Build.String()
	case a.Agent != nil:
		return "agent " + a.Agent.ID.String()
	}
	return "person " + a.person.String()
}

// Lacking lists those of the digests whose bytes must be sent: what the actor may not read counts
// as lacking, though it be here.
func (s *Service) Lacking(ctx context.Context, a Actor, digests []artifact.Digest) ([]artifact.Digest, error) {
	mine, err := s.projects(ctx, a)
	if err != nil {
		return nil, err
	}
	texts := make([]string, len(digests))
	for i, d := range digests {
		texts[i] = string(d)
	}
	readable, err := s.DB.Readable(ctx, texts, a.holder(), mine)
	if err != nil {
		return nil, err
	}
	lacking := []artifact.Digest{}
	may := make(map[string]bool, len(readable))
	for _, d := range readable {
		may[d] = true
	}
	var here []artifact.Digest
	var sizes []int64
	asked := make(map[artifact.Digest]bool, len(digests))
	for _, d := range digests {
		size, there := s.blobs.Has(d)
		switch {
		case asked[d]:
		case there && may[string(d)]:
			here, sizes = append(here, d), append(sizes, size)
		default:
			lacking = append(lacking, d)
		}
		asked[d] = true
	}
	gone, err := s.holdBlobs(ctx, a, here, sizes)
	return append(lacking, gone...), err
}

// holdBlobs keeps blobs from being removed for a while, and lists those that were being removed just then:
// they are not here any more, and their bytes are to be sent.
func (s *Service) holdBlobs(ctx context.Context, a Actor, digests []artifact.Digest, sizes []int64) (gone []artifact.Digest, err error) {
	if len(digests) == 0 {
		return nil, nil
	}
	if err := s.DB.HoldBlobs(ctx, digests, sizes, a.holder(), holdLength); err != nil {
		return nil, err
	}
	for _, d := range digests {
		if _, here := s.blobs.Has(d); !here {
			gone = append(gone, d)
		}
	}
	return gone, nil
}

// UploadAll takes a bundle of small files, all or none.
func (s *Service) UploadAll(ctx context.Context, a Actor, r *bundle.Reader) error {
	seen := map[artifact.Digest]bool{}
	digests, sizes, err := s.blobs.PutAll(func() (artifact.Digest, int64, io.Reader, error) {
		for {
			digest, size, body, err := r.Next()
			if err != nil || !seen[digest] {
				seen[digest] = true
				return digest, size, body, err
			}
		}
	})
	if err != nil {
		return err
	}
	gone, err := s.holdBlobs(ctx, a, digests, sizes)
	if err == nil && len(gone) > 0 {
		err = fault.Unavailable("%d of the files were being removed", len(gone)).Hint("send the bundle again")
	}
	return err
}

// CarriedAll writes carried files of the build that a stage run belongs to as a bundle.
func (s *Service) CarriedAll(ctx context.Context, a Actor, digests []artifact.Digest, w bundle.Writer) error {
	if a.Stage == nil {
		return fault.Refused("only a stage run may fetch what its build carries")
	}
	list, err := s.DB.CarriedDigests(ctx, a.Stage.Build)
	if err != nil {
		return err
	}
	carried := make(map[artifact.Digest]bool, len(list))
	for _, d := range list {
		carried[d] = true
	}
	for _, d := range digests {
		if !carried[d] {
			return fault.Missing("build %s/%d carries no file %s", a.Stage.Pipeline, a.Stage.Number, d)
		}
		f, size, err := s.blobs.Read(d)
		if err != nil {
			return err
		}
		err = w.Add(d, size, f)
		if err = errors.Join(err, f.Close()); err != nil {
			return err
		}
	}
	return nil
}

// NewSizes lists those of the sizes that no blob has which the actor may read: bytes of such a size
// are surely lacking, before anybody has hashed them.
func (s *Service) NewSizes(ctx context.Context, a Actor, sizes []int64) ([]int64, error) {
	mine, err := s.projects(ctx, a)
	if err != nil {
		return nil, err
	}
	list, err := s.DB.NewSizes(ctx, sizes, a.holder(), mine)
	return orEmpty(list), err
}

// UploadOffset is how many bytes of an actor's upload have arrived.
func (s *Service) UploadOffset(a Actor, name string) int64 {
	return s.blobs.Offset(blob.Upload{Owner: a.holder(), Name: name})
}

// Upload takes a part of an upload, which has any name; with a digest it is the last: the bytes
// are whole, checked and kept as a blob.
func (s *Service) Upload(ctx context.Context, a Actor, name string, offset int64, r io.Reader, digest artifact.Digest) (int64, error) {
	kept, err := s.blobs.Append(blob.Upload{Owner: a.holder(), Name: name}, offset, r, digest)
	if err != nil || digest == "" {
		return kept, err
	}
	gone, err := s.holdBlobs(ctx, a, []artifact.Digest{digest}, []int64{kept})
	if err == nil && len(gone) > 0 {
		err = fault.Unavailable("the bytes of %s were being removed", digest).Hint("send them again")
	}
	return kept, err
}

// Carried opens a carried file of the build that a stage run belongs to, or a cache of its project.
func (s *Service) Carried(ctx context.Context, a Actor, d artifact.Digest) (*os.File, int64, error) {
	if a.Stage == nil {
		return nil, 0, fault.Refused("only a stage run may fetch what its build carries")
	}
	ok, err := s.DB.CarriedDigest(ctx, a.Stage.Build, d)
	if err == nil && !ok {
		ok, err = s.DB.CachedDigest(ctx, a.Stage.Project, d)
	}
	if err == nil && !ok {
		ok, err = s.equips(ctx, *a.Stage, d)
	}
	if err == nil && !ok {
		err = fault.Missing("build %s/%d carries no file %s", a.Stage.Pipeline, a.Stage.Number, d)
	}
	if err != nil {
		return nil, 0, err
	}
	return s.blobs.Read(d)
}

// StoredFile is a file of a store as an ordinary client gets it.
type StoredFile struct {
	artifact.File
	Body     *os.File
	SealedAt time.Time
}

// splitPath takes NAME/VERSION/FILE apart.
func splitPath(p string) (name, ver, file string, err error) {
	parts := strings.SplitN(p, "/", 3)
	if len(parts) != 3 || parts[2] == "" {
		return "", "", "", fault.Missing("no file %q", p).Hint("a file of a store has the path NAME/VERSION/FILE")
	}
	if _, err := artifact.ParseName("artifact", parts[0]); err != nil {
		return "", "", "", err
	}
	if _, err := artifact.ParseVersion(parts[1]); err != nil {
		return "", "", "", err
	}
	return parts[0], parts[1], parts[2], artifact.CheckPath(parts[2])
}

// OpenFile opens a file of a store; the caller closes its body. What a stage run reads becomes an
// input of its build.
func (s *Service) OpenFile(ctx context.Context, a Actor, store, p string) (StoredFile, error) {
	name, ver, file, err := splitPath(p)
	if err != nil {
		return StoredFile{}, err
	}
	adm, err := s.admissionFor(ctx, a, store, name, ver)
	if err != nil {
		return StoredFile{}, err
	}
	f, err := s.DB.ContentFile(ctx, *adm.Content, file)
	if err != nil {
		return StoredFile{}, err
	}
	if a.Stage != nil {
		run, err := s.runningIn(ctx, *a.Stage)
		if err != nil {
			return StoredFile{}, err
		}
		if err := s.DB.AddInput(ctx, a.Stage.Build, run, adm.ID, f); err != nil {
			return StoredFile{}, err
		}
	}
	body, _, err := s.blobs.Read(f.Digest)
	out := StoredFile{File: f, Body: body}
	if adm.SealedAt != nil {
		out.SealedAt = *adm.SealedAt
	}
	return out, err
}

// runningIn is the stage run of a chain that runs now.
func (s *Service) runningIn(ctx context.Context, c database.ChainHolder) (int, error) {
	runs, err := s.DB.Runs(ctx, c.Build)
	if err != nil {
		return 0, err
	}
	at := 0
	for _, r := range runs {
		if r.Chain == c.Index && r.StartedAt != nil {
			at = r.Index
		}
	}
	return at, nil
}

// admissionFor finds a sealed version that an actor may read.
func (s *Service) admissionFor(ctx context.Context, a Actor, store, name, ver string) (database.Admission, error) {
	st, err := s.storeFor(ctx, a, store, Read)
	if err != nil {
		return database.Admission{}, err
	}
	adm, err := s.DB.Admission(ctx, st.Name, name, ver)
	if err != nil {
		return adm, err
	}
	if adm.State == "filling" {
		return adm, fault.Missing("%s/%s@%s is still being filled by build %s", store, name, ver, adm.BuildRef).Hint("it can be fetched once the build has passed")
	}
	return adm, nil
}

// PutFile takes a file that a person sends into a store as a whole artifact of one file.
func (s *Service) PutFile(ctx context.Context, a Actor, store, p string, digest artifact.Digest, r io.Reader) (view.Artifact, error) {
	name, ver, file, err := splitPath(p)
	if err != nil {
		return view.Artifact{}, err
	}
	st, err := s.storeFor(ctx, a, store, BuildIt)
	if err != nil {
		return view.Artifact{}, err
	}
	if a.Stage != nil {
		return view.Artifact{}, fault.Refused("a step delivers by [[stage.X.artifact]], so that what it delivers is sealed with its build")
	}
	if err := s.refuseTaken(ctx, st, name, ver, digest, file); err != nil {
		return view.Artifact{}, err
	}
	size, err := s.Upload(ctx, a, string(digest), s.UploadOffset(a, string(digest)), r, digest)
	if err != nil {
		return view.Artifact{}, err
	}
	return s.admit(ctx, a, st, name, ver, []artifact.File{{Path: file, Size: size, Digest: digest}})
}

// refuseTaken says before any byte is read that a version is taken.
func (s *Service) refuseTaken(ctx context.Context, st database.Store, name, ver string, digest artifact.Digest, file string) error {
	holder, taken, err := s.DB.Holding(ctx, st.ID, name, ver)
	if err != nil || !taken || st.Rewrite == "always" {
		return err
	}
	if st.Rewrite == "same" && holder.Content != nil && holder.Files == 1 {
		if f, err := s.DB.ContentFile(ctx, *holder.Content, file); err == nil && f.Digest == digest {
			return nil
		}
	}
	return takenBy(holder)
}

// Deliver admits files whose bytes were sent before, as a person's whole artifact.
func (s *Service) Deliver(ctx context.Context, a Actor, store, name, ver string, files []artifact.File) (view.Artifact, error) {
	st, err := s.storeFor(ctx, a, store, BuildIt)
	if err != nil {
		return view.Artifact{}, err
	}
	if _, err := artifact.ParseName("artifact", name); err != nil {
		return view.Artifact{}, err
	}
	if _, err := artifact.ParseVersion(ver); err != nil {
		return view.Artifact{}, err
	}
	digests := mapped(files, func(f artifact.File) artifact.Digest { return f.Digest })
	if lacking, err := s.Lacking(ctx, a, digests); err != nil {
		return view.Artifact{}, err
	} else if len(lacking) > 0 {
		return view.Artifact{}, fault.Invalid("the bytes of %d files are lacking, %s the first", len(lacking), lacking[0]).Hint("send them first")
	}
	return s.admit(ctx, a, st, name, ver, files)
}

func (s *Service) admit(ctx context.Context, a Actor, st database.Store, name, ver string, files []artifact.File) (view.Artifact, error) {
	content, err := artifact.NewContent(files)
	if err != nil {
		return view.Artifact{}, err
	}
	if len(content.Files) == 0 {
		return view.Artifact{}, fault.Invalid("an artifact has at least one file")
	}
	digest := string(content.Digest())
	id := newID()
	err = s.DB.Change(ctx, func(tx *database.DB) error {
		holder, taken, err := tx.Holding(ctx, st.ID, name, ver)
		if err != nil {
			return err
		}
		if taken {
			if st.Rewrite == "same" && holder.Content != nil && *holder.Content == digest {
				id = holder.ID
				return nil
			}
			return takenBy(holder)
		}
		if err := tx.AddContent(ctx, content); err != nil {
			return err
		}
		revision := 1
		if st.Rewrite == "always" {
			if revision, err = tx.NextRevision(ctx, st.ID, name, ver); err != nil {
				return err
			}
		}
		if err := tx.AddAdmission(ctx, database.Admission{ID: id, Store: st.ID, Name: name, Version: ver, Revision: revision, State: "sealed",
			Holds: st.Rewrite != "always", Content: &digest, By: a.Name}); err != nil {
			return err
		}
		return tx.AddRecord(ctx, a.Name, "artifact delivered", st.Name+"/"+name+"@"+ver, map[string]string{"content": "sha256:" + digest})
	})
	if err != nil {
		return view.Artifact{}, err
	}
	adm, err := s.DB.AdmissionByID(ctx, id)
	return artifactView(adm), err
}
