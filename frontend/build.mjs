// Builds everything that a page needs into src/zipplumb/web/static/build; nothing comes from outside at run time.
import { execFileSync } from "node:child_process";
import { copyFileSync, mkdirSync, rmSync } from "node:fs";
import { build } from "esbuild";

const out = "src/zipplumb/web/static/build";
rmSync(`${out}/chunks`, { recursive: true, force: true });
await build({
  entryPoints: { app: "frontend/main.js" },
  outdir: out,
  bundle: true,
  minify: true,
  sourcemap: true,
  format: "esm",
  splitting: true,
  chunkNames: "chunks/[name]-[hash]",
  target: "es2022",
});
// what a report's page by itself takes along
await build({
  entryPoints: { handout: "frontend/handout/handout.js" },
  outdir: "src/zipplumb/exchange/handout",
  bundle: true,
  minify: true,
  format: "iife",
  legalComments: "none",
  target: "es2022",
});
execFileSync("node_modules/.bin/tailwindcss", ["-i", "frontend/styles/app.css", "-o", `${out}/tailwind.css`, "--minify"], {
  stdio: "inherit",
});
mkdirSync("src/zipplumb/exchange/fonts", { recursive: true });
for (const weight of [400, 600]) {
  const name = `atkinson-hyperlegible-next-latin-${weight}-normal.woff2`;
  copyFileSync(`node_modules/@fontsource/atkinson-hyperlegible-next/files/${name}`, `src/zipplumb/exchange/fonts/${name}`);
}
// a second pass takes the fonts along
await build({
  entryPoints: { "app-styles": `${out}/tailwind.css` },
  outfile: `${out}/app.css`,
  bundle: true,
  minify: true,
  loader: { ".woff2": "file", ".woff": "empty" },
  assetNames: "fonts/[name]",
  nodePaths: ["node_modules"],
  absWorkingDir: process.cwd(),
});
