package main

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/chromedp/chromedp"
	"patientheron/test/e2e/browser"
)

func main() {
	ctx, cancel := context.WithTimeout(context.Background(), 100*time.Second)
	defer cancel()
	token, _ := os.ReadFile("/tmp/hd/token")
	base := "http://127.0.0.1:7555"
	profile, _ := os.MkdirTemp("", "x")
	b, err := browser.Open(ctx, profile)
	if err != nil { panic(err) }
	defer b.Close()
	try := func(err error) { if err != nil { fmt.Println(err) } }
	try(b.Do(chromedp.Navigate(base+"/sign-in#token="+strings.TrimSpace(string(token))), chromedp.WaitVisible(chromedp.CSS("table"))))
	for _, step := range os.Args[1:] {
		// path;js;name;w;h
		p := strings.Split(step, ";;")
		try(b.Do(chromedp.Navigate(base + p[0])))
		time.Sleep(1200 * time.Millisecond)
		if p[1] != "" { _, err := b.Evaluate(p[1]); try(err); time.Sleep(1500*time.Millisecond) }
		var w, h int64 = 1280, 900
		if len(p) > 3 { fmt.Sscanf(p[3], "%d", &w); fmt.Sscanf(p[4], "%d", &h) }
		if len(p) > 5 { try(b.Scheme(p[5])) }
		try(b.Picture("/tmp/"+p[2]+".png", w, h))
		try(b.Scheme("light"))
	}
}
