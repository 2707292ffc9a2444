// Copies what ships as it is from the packages into static/: the one variable font, and the
// licences of everything that is built in.
import { copyFileSync, existsSync, mkdirSync } from "node:fs";

const to = "src/nimbus_reef/web/static/";
const font = "node_modules/@fontsource-variable/archivo/";
copyFileSync(`${font}files/archivo-latin-standard-normal.woff2`, `${to}archivo.woff2`);
copyFileSync(`${font}files/archivo-latin-ext-standard-normal.woff2`, `${to}archivo-ext.woff2`);

mkdirSync(`${to}licences`, { recursive: true });
for (const name of ["@fontsource-variable/archivo", "@alpinejs/csp", "htmx.org", "echarts", "zrender", "tailwindcss"]) {
  const licence = ["LICENSE", "LICENSE.md"].map((file) => `node_modules/${name}/${file}`).find(existsSync);
  if (licence) copyFileSync(licence, `${to}licences/${name.replace("@", "").replace("/", "-")}.txt`);
}
