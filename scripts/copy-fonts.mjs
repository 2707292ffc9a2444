// Copies what ships as it is from the packages into static/: the one variable font, and the
// licences and notices of everything that is built in. Ends with an error where one has none.
import { copyFileSync, existsSync, mkdirSync, readdirSync, readFileSync } from "node:fs";

const to = "src/nimbus_reef/web/static/";
const font = "node_modules/@fontsource-variable/archivo/";
copyFileSync(`${font}files/archivo-latin-standard-normal.woff2`, `${to}archivo.woff2`);
copyFileSync(`${font}files/archivo-latin-ext-standard-normal.woff2`, `${to}archivo-ext.woff2`);

// Packages whose authors ship no licence file; theirs are kept in static/licences by hand. Alpine has Vue's reactivity built in.
const byHand = ["alpinejs-csp", "vue-reactivity"];
const bundled = Object.keys(JSON.parse(readFileSync("node_modules/.bundled.json")).inputs)
  .map((path) => /node_modules\/((?:@[^/]+\/)?[^/]+)/.exec(path)?.[1])
  .filter(Boolean);
mkdirSync(`${to}licences`, { recursive: true });
for (const name of new Set([...bundled, "@fontsource-variable/archivo", "tailwindcss"])) {
  const home = `node_modules/${name}`;
  const plain = name.replace("@", "").replace("/", "-");
  const texts = readdirSync(home, { withFileTypes: true })
    .filter((each) => each.isFile() && /^(LICEN[CS]E|NOTICE|COPYING)/i.test(each.name))
    .map((each) => each.name);
  if (!texts.length && !byHand.includes(plain)) throw new Error(`${name} has no licence file`);
  for (const file of texts) {
    const kind = /^NOTICE/i.test(file) ? "-notice" : "";
    copyFileSync(`${home}/${file}`, `${to}licences/${plain}${kind}.txt`);
  }
  if (existsSync(`${home}/licenses`)) {
    for (const file of readdirSync(`${home}/licenses`)) copyFileSync(`${home}/licenses/${file}`, `${to}licences/${plain}-${file}.txt`);
  }
}
for (const name of byHand) if (!existsSync(`${to}licences/${name}.txt`)) throw new Error(`licences/${name}.txt is missing`);
