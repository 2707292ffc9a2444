// Copies what ships as it is from the packages into static/: the one variable font.
import { copyFileSync } from "node:fs";

const from = "node_modules/@fontsource-variable/archivo/files/";
const to = "src/nimbus_reef/web/static/";
copyFileSync(`${from}archivo-latin-standard-normal.woff2`, `${to}archivo.woff2`);
copyFileSync(`${from}archivo-latin-ext-standard-normal.woff2`, `${to}archivo-ext.woff2`);
