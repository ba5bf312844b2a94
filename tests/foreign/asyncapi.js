// The AsyncAPI initiative's own parser: prints what it finds wrong with the document at the path given.
"use strict";
const {readFileSync} = require("node:fs");
const {Parser} = require("@asyncapi/parser");

async function main() {
  for (const path of process.argv.slice(2)) {
    const {document, diagnostics} = await new Parser().parse(readFileSync(path, "utf8"));
    const wrong = diagnostics.filter((each) => each.severity < 2).map((each) => `${each.path.join(".")}: ${each.message}`);
    const channels = document ? document.channels().all().length : 0;
    console.log(JSON.stringify({path, channels, operations: document ? document.operations().all().length : 0, wrong}));
  }
}

main();
