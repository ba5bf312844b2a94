// A W3C Thing Description client that no one here wrote: reads, observes, writes, calls and hears a thing.
// Arguments: the description's file, then JSON steps; prints a JSON row for each thing that happens.
"use strict";
const {readFileSync} = require("node:fs");
const {Servient} = require("@node-wot/core");
const {MqttClientFactory} = require("@node-wot/binding-mqtt");

const say = (...row) => console.log(JSON.stringify(row));

async function main([file, login, ...steps]) {
  const description = JSON.parse(readFileSync(file, "utf8"));
  const servient = new Servient();
  servient.addClientFactory(new MqttClientFactory());
  servient.addCredentials({[description.id]: JSON.parse(login)});
  const wot = await servient.start();
  const thing = await wot.consume(description);
  for (const [what, name, value] of steps.map((each) => JSON.parse(each))) {
    if (what === "read") say(what, name, await (await thing.readProperty(name)).value());
    else if (what === "write") say(what, name, await thing.writeProperty(name, value));
    else if (what === "invoke") say(what, name, await thing.invokeAction(name, value) && null);
    else if (what === "observe") await thing.observeProperty(name, async (got) => say(what, name, await got.value()));
    else if (what === "hear") await thing.subscribeEvent(name, async (got) => say(what, name, await got.value()));
    say("done", what, name);
  }
}

main(process.argv.slice(2)).catch((wrong) => { console.error(wrong); process.exit(1); });
