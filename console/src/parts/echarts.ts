import { BarChart, LineChart } from "echarts/charts";
import { GridComponent, LegendComponent, MarkAreaComponent, TooltipComponent } from "echarts/components";
import { use } from "echarts/core";
import { CanvasRenderer } from "echarts/renderers";

use([
	LineChart,
	BarChart,
	GridComponent,
	LegendComponent,
	MarkAreaComponent,
	TooltipComponent,
	CanvasRenderer,
]);

export { init } from "echarts/core";
