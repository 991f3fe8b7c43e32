package agent

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"

	"rotanex.example/api"
	"rotanex.example/api/client"
	"rotanex.example/core/framefiles"
	"rotanex.example/core/stock"
	"rotanex.example/launchers"
)

// inputs fetches the frames of other passes that some leases need into a folder below the start's, and returns that folder.
func (s *start) inputs(ctx context.Context, folder string, some []*job) (string, error) {
	into := filepath.Join(folder, "inputs")
	if err := os.MkdirAll(into, 0o700); err != nil {
		return "", err
	}
	for _, j := range some {
		for _, x := range j.Inputs {
			// A service is not trusted with a path of this machine.
			if err := stock.ValidName("pass", x.Pass); err != nil {
				return "", err
			}
			if x.File != "" {
				if err := framefiles.ValidName(x.File); err != nil {
					return "", err
				}
			}
			name := launchers.Input(x.Pass, x.File, j.Frame, x.Format)
			if err := j.fetch(ctx, x, filepath.Join(into, filepath.Base(name))); err != nil {
				return "", fmt.Errorf("frame %d of %s, which this one needs: %w", j.Frame, x.Shot, err)
			}
		}
	}
	return into, nil
}

// mostInput is how large the file of a frame may be.
const mostInput = 2 << 30

// fetch brings the file of an input here, whole.
func (j *job) fetch(ctx context.Context, x api.LeaseInput, path string) error {
	sum, err := retried(ctx, j.agent, func(ctx context.Context) (string, error) {
		answer, err := j.agent.client.GetInput(ctx, j.Lease.Lease, j.Fence, x.Shot, &api.GetInputParams{File: x.File})
		if err != nil {
			return "", err
		}
		defer func() { _ = answer.Body.Close() }()
		if answer.StatusCode != http.StatusOK {
			return "", client.Check(answer, nil)
		}
		file, err := os.OpenFile(path, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
		if err != nil {
			return "", err
		}
		defer func() { _ = file.Close() }()
		hash := sha256.New()
		if _, err = io.Copy(io.MultiWriter(file, hash), io.LimitReader(answer.Body, mostInput)); err != nil {
			return "", err
		}
		return hex.EncodeToString(hash.Sum(nil)), file.Close()
	})
	if err == nil && sum != x.Sha256 {
		err = fmt.Errorf("its file arrived as another one, %.8s for %.8s", sum, x.Sha256)
	}
	return err
}
