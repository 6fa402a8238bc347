import { createTheme, type MantineColorsTuple } from "@mantine/core";

// The lamp: focus, selection and the primary act, nothing else.
const lamp: MantineColorsTuple = [
  "#fdf3e1",
  "#f6e3c0",
  "#efd09a",
  "#e9bd73",
  "#e3a84f",
  "#d1943b",
  "#b27a28",
  "#8a5a12",
  "#6d470f",
  "#4f340b",
];

export const theme = createTheme({
  primaryColor: "lamp",
  primaryShade: { light: 7, dark: 4 },
  autoContrast: true,
  luminanceThreshold: 0.35,
  colors: { lamp },
  fontFamily: "'Atkinson Hyperlegible Next Variable', system-ui, sans-serif",
  fontFamilyMonospace: "'Atkinson Hyperlegible Mono Variable', ui-monospace, monospace",
  fontSizes: { sm: "0.9375rem", md: "0.9375rem" },
  defaultRadius: "sm",
  respectReducedMotion: true,
  focusRing: "always",
  // Named, so that the style sheet can tell the primary act from the others.
  components: {
    Button: { defaultProps: { variant: "filled" } },
    // Locking the page's scrolling writes a style of its own, which the page's policy rightly refuses.
    Modal: { defaultProps: { lockScroll: false, closeButtonProps: { "aria-label": "Close" } } },
    // What holds the focus first is no menu item; assistive technology is told of items only.
    Menu: { defaultProps: { withInitialFocusPlaceholder: false } },
  },
});
