using System;
using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace Umbrek.Service.Storage.Migrations.Postgres
{
    /// <inheritdoc />
    public partial class EstateOrder : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.AddColumn<long>(
                name: "MemoryFreeBytes",
                table: "Samples",
                type: "bigint",
                nullable: false,
                defaultValue: 0L);

            migrationBuilder.AddColumn<long>(
                name: "MemoryTotalBytes",
                table: "Samples",
                type: "bigint",
                nullable: false,
                defaultValue: 0L);

            migrationBuilder.AddColumn<long>(
                name: "StorageFreeBytes",
                table: "Samples",
                type: "bigint",
                nullable: true);

            migrationBuilder.AddColumn<long>(
                name: "UptimeSeconds",
                table: "Samples",
                type: "bigint",
                nullable: false,
                defaultValue: 0L);

            migrationBuilder.AddColumn<string>(
                name: "LabelKey",
                table: "Hosts",
                type: "text",
                nullable: false,
                defaultValue: "");

            migrationBuilder.AddColumn<string>(
                name: "Links",
                table: "Hosts",
                type: "text",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "Notes",
                table: "Hosts",
                type: "text",
                nullable: true);

            migrationBuilder.AddColumn<DateTimeOffset>(
                name: "RetiredAt",
                table: "Hosts",
                type: "timestamp with time zone",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "RetiredBy",
                table: "Hosts",
                type: "text",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "SystemNameKey",
                table: "Hosts",
                type: "text",
                nullable: false,
                defaultValue: "");

            migrationBuilder.AddColumn<long>(
                name: "Version",
                table: "Groups",
                type: "bigint",
                nullable: false,
                defaultValue: 0L);

            migrationBuilder.CreateTable(
                name: "Customers",
                columns: table => new
                {
                    GroupId = table.Column<Guid>(type: "uuid", nullable: false),
                    Contact = table.Column<string>(type: "text", nullable: true),
                    Address = table.Column<string>(type: "text", nullable: true),
                    Notes = table.Column<string>(type: "text", nullable: true),
                    Colour = table.Column<string>(type: "text", nullable: true),
                    Emblem = table.Column<string>(type: "text", nullable: true),
                    Version = table.Column<long>(type: "bigint", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Customers", x => x.GroupId);
                    table.ForeignKey(
                        name: "FK_Customers_Groups_GroupId",
                        column: x => x.GroupId,
                        principalTable: "Groups",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "FactValues",
                columns: table => new
                {
                    HostId = table.Column<Guid>(type: "uuid", nullable: false),
                    Name = table.Column<string>(type: "text", nullable: false),
                    Ordinal = table.Column<int>(type: "integer", nullable: false),
                    TextKey = table.Column<string>(type: "text", nullable: false),
                    Number = table.Column<double>(type: "double precision", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_FactValues", x => new { x.HostId, x.Name, x.Ordinal });
                });

            migrationBuilder.CreateTable(
                name: "HostEvents",
                columns: table => new
                {
                    Id = table.Column<Guid>(type: "uuid", nullable: false),
                    HostId = table.Column<Guid>(type: "uuid", nullable: false),
                    At = table.Column<DateTimeOffset>(type: "timestamp with time zone", nullable: false),
                    Kind = table.Column<int>(type: "integer", nullable: false),
                    By = table.Column<string>(type: "text", nullable: false),
                    Text = table.Column<string>(type: "text", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_HostEvents", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "HostTags",
                columns: table => new
                {
                    HostId = table.Column<Guid>(type: "uuid", nullable: false),
                    Key = table.Column<string>(type: "text", nullable: false),
                    Tag = table.Column<string>(type: "text", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_HostTags", x => new { x.HostId, x.Key });
                    table.ForeignKey(
                        name: "FK_HostTags_Hosts_HostId",
                        column: x => x.HostId,
                        principalTable: "Hosts",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "OwnFields",
                columns: table => new
                {
                    Id = table.Column<Guid>(type: "uuid", nullable: false),
                    CustomerId = table.Column<Guid>(type: "uuid", nullable: false),
                    Name = table.Column<string>(type: "text", nullable: false),
                    NameKey = table.Column<string>(type: "text", nullable: false),
                    Kind = table.Column<int>(type: "integer", nullable: false),
                    Choices = table.Column<string>(type: "text", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_OwnFields", x => x.Id);
                    table.ForeignKey(
                        name: "FK_OwnFields_Groups_CustomerId",
                        column: x => x.CustomerId,
                        principalTable: "Groups",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "OwnMarks",
                columns: table => new
                {
                    TechnicianId = table.Column<Guid>(type: "uuid", nullable: false),
                    HostId = table.Column<Guid>(type: "uuid", nullable: false),
                    Pinned = table.Column<bool>(type: "boolean", nullable: false),
                    Colour = table.Column<string>(type: "text", nullable: true),
                    OpenedAt = table.Column<DateTimeOffset>(type: "timestamp with time zone", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_OwnMarks", x => new { x.TechnicianId, x.HostId });
                    table.ForeignKey(
                        name: "FK_OwnMarks_AspNetUsers_TechnicianId",
                        column: x => x.TechnicianId,
                        principalTable: "AspNetUsers",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                    table.ForeignKey(
                        name: "FK_OwnMarks_Hosts_HostId",
                        column: x => x.HostId,
                        principalTable: "Hosts",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "Preferences",
                columns: table => new
                {
                    TechnicianId = table.Column<Guid>(type: "uuid", nullable: false),
                    Name = table.Column<string>(type: "text", nullable: false),
                    Value = table.Column<string>(type: "text", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Preferences", x => new { x.TechnicianId, x.Name });
                    table.ForeignKey(
                        name: "FK_Preferences_AspNetUsers_TechnicianId",
                        column: x => x.TechnicianId,
                        principalTable: "AspNetUsers",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "SavedSelections",
                columns: table => new
                {
                    Id = table.Column<Guid>(type: "uuid", nullable: false),
                    Name = table.Column<string>(type: "text", nullable: false),
                    NameKey = table.Column<string>(type: "text", nullable: false),
                    Text = table.Column<string>(type: "text", nullable: false),
                    Note = table.Column<string>(type: "text", nullable: true),
                    CreatedAt = table.Column<DateTimeOffset>(type: "timestamp with time zone", nullable: false),
                    CreatedBy = table.Column<string>(type: "text", nullable: false),
                    Version = table.Column<long>(type: "bigint", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_SavedSelections", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "OwnValues",
                columns: table => new
                {
                    HostId = table.Column<Guid>(type: "uuid", nullable: false),
                    FieldId = table.Column<Guid>(type: "uuid", nullable: false),
                    Text = table.Column<string>(type: "text", nullable: false),
                    TextKey = table.Column<string>(type: "text", nullable: false),
                    Number = table.Column<double>(type: "double precision", nullable: true),
                    Day = table.Column<int>(type: "integer", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_OwnValues", x => new { x.HostId, x.FieldId });
                    table.ForeignKey(
                        name: "FK_OwnValues_Hosts_HostId",
                        column: x => x.HostId,
                        principalTable: "Hosts",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                    table.ForeignKey(
                        name: "FK_OwnValues_OwnFields_FieldId",
                        column: x => x.FieldId,
                        principalTable: "OwnFields",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateIndex(
                name: "IX_HostEvents_HostId_At",
                table: "HostEvents",
                columns: new[] { "HostId", "At" });

            migrationBuilder.CreateIndex(
                name: "IX_HostTags_Key",
                table: "HostTags",
                column: "Key");

            migrationBuilder.CreateIndex(
                name: "IX_OwnFields_CustomerId_NameKey",
                table: "OwnFields",
                columns: new[] { "CustomerId", "NameKey" },
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_OwnMarks_HostId",
                table: "OwnMarks",
                column: "HostId");

            migrationBuilder.CreateIndex(
                name: "IX_OwnValues_FieldId",
                table: "OwnValues",
                column: "FieldId");

            migrationBuilder.CreateIndex(
                name: "IX_SavedSelections_NameKey",
                table: "SavedSelections",
                column: "NameKey",
                unique: true);
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropTable(
                name: "Customers");

            migrationBuilder.DropTable(
                name: "FactValues");

            migrationBuilder.DropTable(
                name: "HostEvents");

            migrationBuilder.DropTable(
                name: "HostTags");

            migrationBuilder.DropTable(
                name: "OwnMarks");

            migrationBuilder.DropTable(
                name: "OwnValues");

            migrationBuilder.DropTable(
                name: "Preferences");

            migrationBuilder.DropTable(
                name: "SavedSelections");

            migrationBuilder.DropTable(
                name: "OwnFields");

            migrationBuilder.DropColumn(
                name: "MemoryFreeBytes",
                table: "Samples");

            migrationBuilder.DropColumn(
                name: "MemoryTotalBytes",
                table: "Samples");

            migrationBuilder.DropColumn(
                name: "StorageFreeBytes",
                table: "Samples");

            migrationBuilder.DropColumn(
                name: "UptimeSeconds",
                table: "Samples");

            migrationBuilder.DropColumn(
                name: "LabelKey",
                table: "Hosts");

            migrationBuilder.DropColumn(
                name: "Links",
                table: "Hosts");

            migrationBuilder.DropColumn(
                name: "Notes",
                table: "Hosts");

            migrationBuilder.DropColumn(
                name: "RetiredAt",
                table: "Hosts");

            migrationBuilder.DropColumn(
                name: "RetiredBy",
                table: "Hosts");

            migrationBuilder.DropColumn(
                name: "SystemNameKey",
                table: "Hosts");

            migrationBuilder.DropColumn(
                name: "Version",
                table: "Groups");
        }
    }
}
