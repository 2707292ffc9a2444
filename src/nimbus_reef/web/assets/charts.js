// Charts: options come from the server, on each chart's element; colours from the style sheet.
import { LineChart, ScatterChart } from "echarts/charts";
import { GridComponent, MarkAreaComponent, MarkLineComponent, TooltipComponent } from "echarts/components";
import * as echarts from "echarts/core";
import { SVGRenderer } from "echarts/renderers";

echarts.use([LineChart, ScatterChart, GridComponent, MarkAreaComponent, MarkLineComponent, TooltipComponent, SVGRenderer]);

const style = () => getComputedStyle(document.documentElement);

/** `@coral` and its like, anywhere in an option, become the theme's colours of now. */
function coloured(value, theme) {
  if (typeof value === "string" && value.startsWith("@")) return theme.getPropertyValue(`--color-${value.slice(1)}`).trim();
  if (Array.isArray(value)) return value.map((item) => coloured(item, theme));
  if (value && typeof value === "object") {
    return Object.fromEntries(Object.entries(value).map(([key, item]) => [key, coloured(item, theme)]));
  }
  return value;
}

function draw(element) {
  const option = coloured(JSON.parse(element.dataset.chart), style());
  const theme = style();
  option.animation = false;
  option.textStyle = { fontFamily: "Archivo", fontSize: 11.5, color: theme.getPropertyValue("--color-ink-2").trim() };
  if (option.tooltip) {
    Object.assign(option.tooltip, {
      backgroundColor: theme.getPropertyValue("--color-paper").trim(),
      borderColor: theme.getPropertyValue("--color-hairline").trim(),
      textStyle: { color: theme.getPropertyValue("--color-ink").trim(), fontSize: 12 },
    });
  }
  if (element.dataset.height) element.style.height = `${element.dataset.height}px`;
  const chart = echarts.getInstanceByDom(element) ?? echarts.init(element, null, { renderer: "svg" });
  chart.setOption(option, true);
}

function drawAll() {
  for (const element of document.querySelectorAll("[data-chart]")) draw(element);
}

document.fonts.ready.then(drawAll);
document.addEventListener("htmx:afterSettle", drawAll);
matchMedia("(prefers-color-scheme: dark)").addEventListener("change", drawAll);
addEventListener("resize", () => {
  for (const element of document.querySelectorAll("[data-chart]")) echarts.getInstanceByDom(element)?.resize();
});
