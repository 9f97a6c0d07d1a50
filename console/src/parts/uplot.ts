import "uplot/dist/uPlot.min.css";

export { default } from "uplot";
