// Bundles kit.js, packs it, and writes it as text that a page can carry; run by `make web`.
import { readFileSync, writeFileSync } from "node:fs";
import { gzipSync } from "node:zlib";
import { build } from "esbuild";

const made = await build({
  entryPoints: ["kit.js"],
  bundle: true,
  minify: true,
  format: "iife",
  globalName: "kit",
  legalComments: "inline",
  write: false,
});
const folder = "../src/evrin/report/vendor/";
writeFileSync(folder + "kit.txt", gzipSync(made.outputFiles[0].contents, { level: 9 }).toString("base64"));
const licences = ["three", "three-mesh-bvh"].map((name) => {
  const { version } = JSON.parse(readFileSync(`node_modules/${name}/package.json`));
  return `${name} ${version}\n\n` + readFileSync(`node_modules/${name}/LICENSE`, "utf8").trim();
});
writeFileSync(folder + "LICENSES.txt", licences.join("\n\n\n") + "\n");
