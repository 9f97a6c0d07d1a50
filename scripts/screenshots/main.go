// Command screenshots takes the pictures of docs/screenshots from a running demo.
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/chromedp/chromedp"
)

func main() {
	address := flag.String("address", "http://127.0.0.1:7450", "the demo's console")
	folder := flag.String("folder", "docs/screenshots", "where the pictures go")
	letters := flag.String("letters", "", "an outlet with dead letters, to take them too; the demo has none by itself")
	dark := flag.Bool("dark", false, "the dark theme")
	flag.Parse()
	if err := take(*address, *folder, *letters, *dark); err != nil {
		fmt.Fprintln(os.Stderr, "screenshots:", err)
		os.Exit(1)
	}
}

func take(address, folder, letters string, dark bool) error {
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.ExecPath("/usr/bin/chromium"), chromedp.WindowSize(1280, 800),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true))
	ctx, cancel := chromedp.NewExecAllocator(context.Background(), options...)
	defer cancel()
	ctx, cancel = chromedp.NewContext(ctx)
	defer cancel()
	// The first call starts the browser, which lives as long as its context.
	if err := chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)); err != nil {
		return err
	}
	ctx, cancel = context.WithTimeout(ctx, 6*time.Minute)
	defer cancel()
	theme, suffix := "light", ""
	if dark {
		theme, suffix = "dark", "-dark"
	}
	shot := func(name string, steps ...chromedp.Action[chromedp.Void]) error {
		if err := chromedp.Do(ctx, steps...); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		return os.WriteFile(filepath.Join(folder, name+suffix+".png"), png, 0o644)
	}
	if err := chromedp.Do(ctx, chromedp.Navigate(address), chromedp.Evaluate[chromedp.Void](`localStorage.setItem("rillmark-theme", "`+theme+`")`)); err != nil {
		return err
	}
	if err := shot("overview", chromedp.Navigate(address), chromedp.WaitVisible(chromedp.CSS(".counts tbody tr")), chromedp.Sleep(2*time.Second)); err != nil {
		return err
	}
	for _, page := range []struct{ name, path, until string }{
		{"outlets", "/outlets", ".counts tbody tr"},
		{"outlet", "/outlets/hub", ".time-chart canvas"},
		{"outlet-cutover", "/outlets/reporting/cutover", ".checks li"},
		{"outlet-definition", "/outlets/hub/definition", "#tables"},
		{"new-destination", "/outlets/new", "#kind"},
		{"dead-letters", "/outlets/" + letters + "/dead-letters", ".tabs"},
	} {
		if page.name == "dead-letters" && letters == "" {
			continue
		}
		if err := shot(page.name, chromedp.Navigate(address+page.path), chromedp.WaitVisible(chromedp.CSS(page.until)), chromedp.Sleep(2*time.Second)); err != nil {
			return err
		}
	}
	if err := shot("outlet-verify", chromedp.Navigate(address+"/outlets/reporting-catalogue/verify"), chromedp.Click(chromedp.CSS(".verify button")), chromedp.WaitVisible(chromedp.CSS(".verify [role=status]"))); err != nil {
		return err
	}
	tabs := []struct{ name, path, until string }{
		{"source", "/sources/circulation", "tr[data-table]"},
		{"source-rules", "/sources/circulation/rules", ".chosen tbody tr"},
		{"source-checks", "/sources/circulation/checks", ".checks li"},
		{"source-versions", "/sources/circulation/versions", ".diff tbody tr"},
		{"source-mariadb", "/sources/catalogue/checks", ".checks li"},
		{"new-source", "/sources/new", "#engine"},
	}
	for _, tab := range tabs {
		if err := shot(tab.name, chromedp.Navigate(address+tab.path), chromedp.WaitVisible(chromedp.CSS(tab.until)), chromedp.Sleep(time.Second)); err != nil {
			return err
		}
	}
	if err := shot("source-impact", chromedp.Navigate(address+"/sources/circulation/impact"), chromedp.SendKeys(chromedp.CSS("#impact-sql"), "ALTER TABLE loans RENAME COLUMN due_on TO due_date"),
		chromedp.Click(chromedp.CSS(".impact button")), chromedp.WaitVisible(chromedp.CSS(".impact-result .checks li")), chromedp.Sleep(500*time.Millisecond)); err != nil {
		return err
	}
	if err := shot("changes", chromedp.Navigate(address+"/changes"), chromedp.WaitVisible(chromedp.CSS(".change-row[data-offset]")), chromedp.Sleep(2*time.Second)); err != nil {
		return err
	}
	if err := shot("event", chromedp.Click(chromedp.CSS("#operation-update + label")), chromedp.Sleep(3*time.Second), chromedp.Click(chromedp.CSS(".filters .pause")),
		chromedp.Click(chromedp.CSS(".change-row[data-offset]")), chromedp.WaitVisible(chromedp.CSS(".images tbody tr")), chromedp.Sleep(500*time.Millisecond)); err != nil {
		return err
	}
	return shot("row-history", chromedp.Click(chromedp.CSS(".change-detail header a")), chromedp.WaitVisible(chromedp.CSS(".dated .change-row[data-offset]")), chromedp.Click(chromedp.CSS(".dated .change-row[data-offset]")),
		chromedp.WaitVisible(chromedp.CSS(".images tbody tr")), chromedp.Sleep(500*time.Millisecond))
}
