import { theme as antd, type ThemeConfig } from "antd";

// Ink on paper: a near-black blue for text and navigation, one warm accent for
// what needs a decision.
const ink = "#16203a";
const paper = "#faf8f3";
const accent = "#b4501a";

const monospace = 'ui-monospace, "SFMono-Regular", "DejaVu Sans Mono", Menlo, Consolas, monospace';

export function themeFor(dark: boolean): ThemeConfig {
  return {
    algorithm: dark ? [antd.darkAlgorithm, antd.compactAlgorithm] : [antd.compactAlgorithm],
    token: {
      colorPrimary: dark ? "#8fa6e0" : "#27407f",
      colorInfo: dark ? "#8fa6e0" : "#27407f",
      colorLink: dark ? "#9db3ec" : "#27407f",
      colorTextBase: dark ? "#e8e4da" : ink,
      colorBgBase: dark ? "#10151f" : "#ffffff",
      colorBgLayout: dark ? "#0b0f17" : paper,
      colorInfoBg: dark ? "#151d2d" : "#f1f4fb",
      colorInfoBorder: dark ? "#2b3a5c" : "#c9d3ec",
      colorSuccess: dark ? "#7fcf9f" : "#2c6e49",
      colorWarning: dark ? "#f0a06a" : accent,
      ...(dark
        ? {
            colorBgContainer: "#141a25",
            colorBgElevated: "#1a2230",
            colorBorder: "#303b4f",
            colorBorderSecondary: "#232c3c",
            colorFillAlter: "#18202d",
          }
        : {}),
      borderRadius: 4,
      fontSize: 14,
      fontFamilyCode: monospace,
      fontFamily: 'system-ui, -apple-system, "Segoe UI", "Noto Sans", "DejaVu Sans", sans-serif',
    },
    components: {
      Table: { headerBg: dark ? "#171e2c" : "#f3efe6" },
      Layout: { siderBg: ink, headerBg: "transparent" },
      Menu: { darkItemBg: ink, darkItemSelectedBg: "#2b3a63" },
    },
  };
}

// Colours of severities and of marks in the wire view. Each stands beside a sign
// and a word, so that nothing is lost in grey.
export const severityColour = {
  critical: { light: "#a3122a", dark: "#ff8a94" },
  high: { light: "#b4501a", dark: "#ffab78" },
  medium: { light: "#80620a", dark: "#e8c55c" },
  low: { light: "#35598c", dark: "#94b8ea" },
  info: { light: "#5c6270", dark: "#a9afbd" },
} as const;
