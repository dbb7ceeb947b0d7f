// One chart that follows its element's size, on the parts of ECharts that are used.
import { BarChart, CandlestickChart, HeatmapChart, LineChart } from "echarts/charts";
import { DataZoomComponent, GridComponent, LegendComponent, MarkAreaComponent, MarkLineComponent, TooltipComponent, VisualMapComponent } from "echarts/components";
import { init, use, type EChartsType } from "echarts/core";
import { CanvasRenderer } from "echarts/renderers";
import { onBeforeUnmount, onMounted, shallowRef, watch, type Ref } from "vue";

use([BarChart, CandlestickChart, HeatmapChart, LineChart, DataZoomComponent, GridComponent, LegendComponent, MarkAreaComponent, MarkLineComponent, TooltipComponent, VisualMapComponent, CanvasRenderer]);

/** Draws `option` into `element` and again whenever it changes; `click` gets the data of what is clicked, and its place. */
export function useChart(element: Ref<HTMLElement | undefined>, option: Ref<Record<string, unknown>>, click?: (data: unknown, index: number) => void): void {
  const chart = shallowRef<EChartsType>();
  let size: ResizeObserver | undefined;
  onMounted(() => {
    if (!element.value) return;
    const made = init(element.value);
    chart.value = made;
    made.setOption(option.value);
    made.on("click", (event) => click?.(event.data, event.dataIndex));
    size = new ResizeObserver(() => made.resize());
    size.observe(element.value);
  });
  watch(option, (value) => chart.value?.setOption(value, { replaceMerge: ["series", "xAxis", "yAxis"] }));
  onBeforeUnmount(() => {
    size?.disconnect();
    chart.value?.dispose();
  });
}
