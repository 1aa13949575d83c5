// Opens a page in Chromium, as a person would, and prints what came of it as JSON.
// node check.mjs CHROMIUM MODULES PAGE
import { createRequire } from "node:module";
import { readFileSync } from "node:fs";

const [chromium, modules, page] = process.argv.slice(2);
const require = createRequire(`${modules}/`);
const playwright = require("playwright-core");
const axe = readFileSync(require.resolve("axe-core/axe.min.js"), "utf8");

const browser = await playwright.chromium.launch({
  executablePath: chromium,
  args: ["--no-sandbox", "--disable-gpu"],
});
try {
  const seen = await browser.newPage({ viewport: { width: 1280, height: 800 } });
  const faults = [];
  seen.on("pageerror", (error) => faults.push(String(error)));
  seen.on("console", (said) => said.type() === "error" && faults.push(said.text()));
  const asked = [];
  seen.on("request", (request) => asked.push(request.url()));
  await seen.goto(`file://${page}`);
  const drawn = await seen.evaluate(() => new Promise((done) => {
    requestAnimationFrame(() => setTimeout(() => done(performance.now()), 0));
  }));
  // A cell tells its evidence where it is asked, and only then.
  const tables = () => seen.locator("#matrix td > table").count();
  const before = await tables();
  await seen.locator("#matrix td > button").first().click();
  const evidence = await seen.locator("#matrix td > table").first().innerText();
  const rows = () => seen.locator("#matrix > tbody > tr:visible").count();
  const folded = await rows();
  const more = seen.locator("#matrix th > button");
  if (await more.count()) await more.first().click();
  const unfolded = await rows();
  await seen.fill("#word", "tcp/7410");
  const found = await rows();
  await seen.fill("#word", "");
  // The heads stay where they are when somebody scrolls.
  const wide = seen.locator(".wide");
  await wide.evaluate((box) => box.scrollTo(200, 2000));
  const stays = await seen.evaluate(() => {
    const box = document.querySelector(".wide").getBoundingClientRect();
    const head = document.querySelector("#matrix > thead th:last-child").getBoundingClientRect();
    return Math.abs(head.top - box.top) < 2;
  });
  await seen.evaluate(axe);
  const found_by_axe = await seen.evaluate(() => axe.run(document, { resultTypes: ["violations"] }));
  const violations = found_by_axe.violations.map((v) => `${v.id}: ${v.nodes[0].html.slice(0, 120)}`);
  console.log(JSON.stringify({
    drawn, before, evidence, folded, unfolded, found, stays, faults, asked: asked.length, violations,
  }));
} finally {
  await browser.close();
}
